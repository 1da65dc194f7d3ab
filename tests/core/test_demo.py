"""The demo session sounds as its truth file says: every planted fault can be measured where it was planted."""

import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import scipy.signal
import soundfile

from mivlo.core.loudness import integrated_loudness, sample_peak_db
from mivlo.core.spectra.average import AXIS_HZ, band_levels, stand_out

DEMO = Path(__file__).parents[2] / "demo"
SESSION = json.loads((DEMO / "session.json").read_text())
FAULTS = json.loads((DEMO / "truth.json").read_text())["faults"]
RATE = SESSION["sample_rate_hz"]


def track(name: str) -> np.ndarray:
    entry = next(one for one in SESSION["tracks"] if one["name"] == name)
    return soundfile.read(DEMO / "tracks" / entry["file"], always_2d=True)[0].T


def faults(kind: str) -> list[dict]:
    return [fault for fault in FAULTS if fault["kind"] == kind]


def band_db(x: np.ndarray, low_hz: float, high_hz: float, step_s: float = 0.03) -> np.ndarray:
    """Return the level of a band in steps of time."""
    sos = scipy.signal.butter(3, [low_hz, high_hz], "bandpass", fs=RATE, output="sos")
    step = round(step_s * RATE)
    y = scipy.signal.sosfiltfilt(sos, np.mean(x, axis=0))
    rows = y[: len(y) // step * step].reshape(-1, step)
    return 10 * np.log10(np.mean(rows**2, axis=1) + 1e-14)


def test_the_ring_is_a_decaying_mode_that_strokes_excite():
    (ring,) = faults("ring")
    x = track(ring["track"])
    level = band_levels(x, sample_rate_hz=RATE)
    assert np.max(stand_out(level)[np.abs(np.log2(AXIS_HZ / ring["hz"])) < 0.05]) > 9.0
    step_s = 0.03
    decay = band_db(x, ring["hz"] - 25, ring["hz"] + 25, step_s)
    slopes = [np.polyfit(np.arange(8) * step_s, decay[n : n + 8], 1)[0] for n in range(len(decay) - 8)]
    falling = [slope for n, slope in enumerate(slopes) if decay[n] > np.max(decay) - 20 and slope < -20]
    # T60 = 60 dB over the slope of the decay between strokes.
    assert -60.0 / np.median(falling) == pytest.approx(ring["ring_s"], rel=0.3)


def test_the_boom_comes_with_some_notes():
    (boom,) = faults("boom")
    x, hz = track(boom["track"]), boom["hz"]
    around = np.maximum(band_db(x, hz * 0.80, hz * 0.88, 0.1), band_db(x, hz * 1.14, hz * 1.25, 0.1))
    excess = band_db(x, hz - 6, hz + 6, 0.1) - around
    assert np.mean(excess > 3.0) > 0.1  # definitions: 3 dB or more during at least a tenth of the stretch


def test_the_whistle_stands_out_although_no_note_is_there():
    (whistle,) = faults("whistle")
    excess = stand_out(band_levels(track(whistle["track"]), sample_rate_hz=RATE))
    assert np.max(excess[np.abs(np.log2(AXIS_HZ / whistle["hz"])) < 0.03]) > 6.0


def test_the_fiddle_is_harsh_when_it_is_loud():
    (harsh,) = faults("harsh")
    x = track(harsh["track"])
    overall, band = band_db(x, 200, 2_000, 0.1), band_db(x, harsh["low_hz"], harsh["high_hz"], 0.1)
    playing = overall > np.max(overall) - 25
    overall, harshness = overall[playing], (band - overall)[playing]
    soft, loud = np.quantile(overall, [0.25, 0.75])
    assert np.mean(harshness[overall > loud]) - np.mean(harshness[overall < soft]) > 1.5


def test_plosives_and_sibilants_are_where_they_are_written_down():
    for kind, low_hz, high_hz in (("plosive", 30, 120), ("sibilance", 5_000, 12_000)):
        marked = faults(kind)
        assert len(marked) >= 5
        level = band_db(track(marked[0]["track"]), low_hz, high_hz, 0.02)
        usual = np.median(level)
        for fault in marked:
            there = level[int(fault["start_s"] / 0.02) : int(fault["end_s"] / 0.02) + 1]
            assert np.max(there) > usual + 6.0, fault


def test_the_box_drum_is_boxy_and_lows_are_useless():
    (boxy,) = faults("boxy")
    level = band_levels(track(boxy["track"]), sample_rate_hz=RATE)
    hump = np.mean(level[np.abs(np.log2(AXIS_HZ / boxy["hz"])) < 0.3])
    above = np.mean(level[np.abs(np.log2(AXIS_HZ / (boxy["hz"] * 3))) < 0.3])
    assert hump > above + 6.0
    for name in ("Fiddle", "Squeezebox", "Lead voice"):  # nothing that these play lies below 62 Hz
        level = band_levels(track(name), sample_rate_hz=RATE)
        assert np.max(level[AXIS_HZ < 60]) > -75.0


def test_two_pairs_hide_each_other():
    clashes = [fault for fault in FAULTS if "clash" in fault["kind"]] or json.loads((DEMO / "truth.json").read_text())[
        "clashes"
    ]
    assert len(clashes) == 2
    names = {one["name"] for one in SESSION["tracks"]}
    for clash in clashes:
        pair = [clash[key] for key in clash if isinstance(clash[key], str) and clash[key] in names] or clash["tracks"]
        assert len(set(pair)) == 2


def test_it_is_music_rather_than_test_tones():
    for entry in SESSION["tracks"]:
        x, rate = soundfile.read(DEMO / "tracks" / entry["file"], always_2d=True)
        assert rate == RATE
        assert -40 < integrated_loudness(x.T, sample_rate_hz=rate) < -10
        assert sample_peak_db(x.T) < -0.1
        level = band_db(x.T, 60, 15_000, 0.05)
        assert np.std(level[level > np.max(level) - 40]) > 2.0, entry["name"]  # strokes and phrases, not a steady tone


def test_the_parts_of_the_repository_import_one_way():
    """`bench/` and `demo/` use the core alone; the core knows neither server nor command line."""
    root = DEMO.parent
    for folder, allowed in (("bench", "mivlo.core"), ("demo", "mivlo.core"), ("src/mivlo/core", "mivlo.core")):
        for path in (root / folder).rglob("*.py"):
            for line in path.read_text().splitlines():
                words = line.split()
                if words[:1] in (["from"], ["import"]) and words[1].startswith("mivlo"):
                    assert words[1].startswith(allowed), f"{path}: {line}"


def test_the_core_needs_neither_server_nor_database():
    script = "import sys, mivlo.cli, mivlo.core.engine.render; print([m for m in sys.modules if m.split('.')[0] in %r])"
    packages = {"fastapi", "sqlalchemy", "psycopg", "uvicorn", "procrastinate"}
    done = subprocess.run([sys.executable, "-c", script % packages], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"


def test_whoever_reads_only_the_first_line_of_a_verb_ends_it_without_a_complaint(tmp_path):
    (tmp_path / "t.json").write_text(
        '{"mivlo_treatment": 1, "moves": [{"kind": "bell", "hz": 1000, "gain_db": -6, "q": 2}]}'
    )
    at = ",".join(str(hz) for hz in range(100, 9_000))
    command = [sys.executable, "-m", "mivlo", "response", str(tmp_path / "t.json"), "--at", at]
    with subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as running:
        assert running.stdout.readline().split()[:2] == ["100.00", "Hz"]
        running.stdout.close()
        assert running.stderr.read() == ""
    assert running.returncode == 0
