"""The report: what a sound reads before and after, in words, as JSON by its schema and as a page."""

import json

import jsonschema
import numpy as np
import pytest
import soundfile
from typer.testing import CliRunner

from mivlo.cli import app
from mivlo.core.loudness import LoudnessMeter
from mivlo.core.model import LedgerEntry, RecordedSession, Track
from mivlo.core.moves.bell import Bell
from mivlo.core.proof.measured import figures_of
from mivlo.core.proof.report import to_page
from mivlo.core.proof.reporting import report_of_session

from ..conftest import ROOT
from .phrases import RATE


def tone(level_db: float, seconds: float, hz: float = 1_000.0) -> np.ndarray:
    t = np.arange(round(seconds * RATE)) / RATE
    return np.tile(10.0 ** (level_db / 20.0) * np.sin(2 * np.pi * hz * t), (2, 1))


@pytest.mark.parametrize(
    ("levels_db", "range_lu"),
    [((-20, -30), 10.0), ((-20, -15), 5.0), ((-40, -20), 20.0), ((-50, -35, -20, -35, -50), 15.0)],
)
def test_the_loudness_range_is_that_of_the_published_signals(levels_db, range_lu):
    """Source: EBU Tech 3342, table 1, minimum requirements 1 to 4 (from memory): stereo tones of 20 s, within 1 LU."""
    meter = LoudnessMeter(RATE)
    for level_db in levels_db:
        meter.push(tone(level_db, 20.0))
    assert meter.loudness_range_lu() == pytest.approx(range_lu, abs=1.0)
    short = LoudnessMeter(RATE)
    short.push(tone(-20, 2.9))
    assert short.loudness_range_lu() is None


def test_crest_factors_are_told_by_region_and_none_of_silence():
    """A sine's peak stands 3.01 dB above its RMS; clicks far more; source: the definition."""
    x = tone(-20, 4.0, 100.0) + tone(-20, 4.0, 1_000.0)
    x[:, :: RATE // 4] += 0.5
    told = figures_of([x[:, :50_000], x[:, 50_000:]], sample_rate_hz=RATE)
    assert told.crest_db["lows"] == pytest.approx(3.5, abs=1.0)
    assert told.crest_db["highs"] > 20.0
    silent = figures_of([np.zeros((1, RATE))], sample_rate_hz=RATE)
    assert (silent.loudness_lufs, set(silent.crest_db.values())) == (None, {None})


def test_names_are_told_as_they_are_and_a_page_takes_none_for_markup():
    ledger = (LedgerEntry(id="e", move=Bell(hz=431, gain_db=-6), reason="<b>rings</b>"),)
    track = Track(id="t", name="<script>alert(1)</script>", audio_id="a", ledger=ledger)
    facts = {"id": "a", "original_name": "a.wav", "format": "WAV", "subtype": "PCM_24"}
    audio = facts | {"original_rate_hz": RATE, "original_frames": 1, "n_channels": 1, "n_frames": 1}
    session = RecordedSession(id="s", name="Song & dance", sample_rate_hz=RATE, tracks=(track,), audio={"a": audio})
    report = report_of_session(session, lambda _: None, blind={"e": "10 of 10 right"})
    [move] = report.strips[0].moves
    assert (move.sentence, move.blind) == ("431 Hz bell, \u22126.0 dB", "blind: 10 of 10 right")
    page = to_page(report)
    assert "<script>" not in page
    assert "&lt;b&gt;rings&lt;/b&gt;" in page
    assert "Song &amp; dance" in page
    assert "size:A4" in page


def test_the_command_line_reports_files_by_the_published_schema(tmp_path):
    soundfile.write(tmp_path / "a.wav", tone(-20, 4.0).T, RATE, subtype="FLOAT")
    bell = {"kind": "bell", "hz": 1_000, "gain_db": -6, "q": 2}
    (tmp_path / "t.json").write_text(json.dumps({"mivlo_treatment": 1, "moves": [bell]}))
    asked = ["report", str(tmp_path / "a.wav"), "--treatment", str(tmp_path / "t.json")]
    answer = CliRunner().invoke(app, [*asked, "--json", "--page", str(tmp_path / "r.html")])
    told = json.loads(answer.stdout)
    jsonschema.validate(told, json.loads((ROOT / "docs/report.schema.json").read_text()))
    [strip] = told["strips"]
    assert strip["after"]["loudness_lufs"] == pytest.approx(strip["before"]["loudness_lufs"] - 6.0, abs=0.05)
    assert "1.0 kHz bell" in (tmp_path / "r.html").read_text()
    assert "a.wav: 1.0 kHz bell, \u22126.0 dB" in CliRunner().invoke(app, asked).stdout
