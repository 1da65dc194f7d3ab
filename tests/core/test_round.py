"""The round: which rows a session gives, in which order, what is one row; the command line; faults of files."""

import json
from pathlib import Path

import numpy as np
import pytest
import soundfile

from mivlo.core.analyses.base import Need
from mivlo.core.analyses.ear_map import who_plays
from mivlo.core.engine.source import ArraySource
from mivlo.core.errors import MivloError
from mivlo.core.file_faults import find_file_faults, length_faults
from mivlo.core.model import RecordedSession
from mivlo.core.model.intents import apply_all
from mivlo.core.model.intents.song import JudgeRow
from mivlo.core.model.intents.stand_ins import DraftStandIns
from mivlo.core.round.row import RoundView
from mivlo.core.round.rows import last_questions, later_questions, round_questions, round_rows

from .phrases import RATE
from .planted import played, through
from .test_analyses import Kept
from .test_files import mivlo

SECONDS = 8
RING = (431.0, 14.0, 16.0)


def tile(x: np.ndarray) -> np.ndarray:
    return np.tile(x, (1, -(-SECONDS * RATE // x.shape[1])))[:, : SECONDS * RATE]


def noisy(x: np.ndarray, seed: int) -> np.ndarray:
    return x + 1e-3 * np.random.default_rng(seed).standard_normal(x.shape)


def sounds() -> dict[str, np.ndarray]:
    """Return a guitar with a ring, two microphones on a fiddle with the same ring, one upside down and late, and a
    clipped trumpet that is softer than all."""
    guitar, fiddle = tile(through(played(24), [RING])), tile(through(played(40)[:, ::-1], [RING]))
    late = -np.roll(fiddle, 96, axis=1)
    trumpet = np.clip(8.0 * tile(played(56)), -0.5, 0.5)
    return {"guitar": guitar, "fiddle": noisy(fiddle, 1), "fiddle far": noisy(late, 2), "trumpet": 0.6 * trumpet}


SOUNDS = {f"{number:032x}": x for number, x in enumerate(sounds().values())}


class KeptSession(Kept):
    def open(self, audio_id: str):
        return ArraySource(SOUNDS[audio_id]) if audio_id in SOUNDS else self.rendered(audio_id)


@pytest.fixture(scope="module")
def kept(tmp_path_factory) -> KeptSession:
    return KeptSession(tmp_path_factory.mktemp("round"))


def session(**of_guitar) -> RecordedSession:
    facts = {"original_name": "x.wav", "format": "WAV", "subtype": "PCM_24", "original_rate_hz": RATE}
    lengths = {"n_frames": SECONDS * RATE, "original_frames": SECONDS * RATE, "n_channels": 1}
    roles = {"guitar": "acoustic guitar", "fiddle": "strings", "fiddle far": "strings", "trumpet": "brass"}
    tracks = [
        {"id": name, "name": name.capitalize(), "role": roles[name], "audio_id": audio_id}
        for name, audio_id in zip(sounds(), SOUNDS, strict=True)
    ]
    tracks[0] |= of_guitar
    return RecordedSession.model_validate(
        {"id": "s", "sample_rate_hz": RATE, "tracks": tracks,
         "audio": {one: {"id": one, **lengths, **facts} for one in SOUNDS}}
    )  # fmt: skip


def view(kept: KeptSession, now: RecordedSession) -> RoundView:
    """Return the rows of a session with everything computed that they hang on."""
    for analysis, asked in (*round_questions(now), *last_questions(now), *later_questions(now)):
        try:
            need = Need(analysis, analysis.question(now, asked, known(kept)))
        except MivloError:
            continue
        kept.computed(need)
    return round_rows(now, known(kept))


def known(kept: KeptSession):
    return lambda need: kept.result(need) if need.key in kept.results else None


def test_rows_appear_as_they_are_found_and_all_wait_before(kept):
    told = round_rows(session(), lambda _: None)
    assert told.rows == []
    assert told.waiting == told.of > 10


def test_one_list_over_the_session_first_what_is_heard(kept):
    told = view(kept, session())
    assert told.waiting == 0
    to_judge = [row for row in told.rows if row.status == "to judge"]
    assert [row.weight for row in to_judge] == sorted((row.weight for row in to_judge), reverse=True)
    # Two microphones on one source, one of them against the other and late.
    [pair] = [row for row in to_judge if row.kind == "tracks"]
    assert (pair.strip_ids, pair.relation.shift_frames, pair.relation.flipped) == (["fiddle", "fiddle far"], 96, True)
    assert pair.relation.lows_win_db > 1.0
    # A clipped file, and the ring of several tracks as one row.
    assert [row.strip_ids for row in to_judge if row.kind == "file"] == [["trumpet"]]
    ring = next(row for row in to_judge if row.hz and abs(1200 * np.log2(row.hz / 431.0)) < 40)
    assert ring.heard == "plain"
    assert len(ring.strip_ids) == len(ring.suspects) >= 2
    assert "all of them" in ring.sentence
    assert ring.loop_s is not None


def test_an_answer_is_measured_and_what_is_judged_stays_in_the_list(kept):
    plain = view(kept, session())
    ring = next(row for row in plain.rows if row.hz and abs(1200 * np.log2(row.hz / 431.0)) < 40)
    one = next(one.suspect for one in ring.suspects if one.strip_id == "guitar")
    entry = {"id": "cut", "move": one.cut.model_dump() | {"gain_db": -14.0}, "evidence": one.evidence.model_dump()}
    shallow = {**entry, "move": one.cut.model_dump() | {"gain_db": -2.0}}

    def answer(entry: dict):
        told = view(kept, session(ledger=[entry]))
        return next(row for row in told.rows if ("guitar", "cut") in row.entries)

    deep = answer(entry)
    assert (deep.status, deep.outcome.split(":")[0]) == ("done", "cured")
    assert "heard in the mix" in deep.outcome
    again = answer(shallow)
    assert again.status == "to judge"  # it is still heard
    assert again.deeper.gain_db < -2.0
    judged = apply_all(session(), [JudgeRow(row_ids=(ring.id,), verdict="later")])
    assert next(row for row in view(kept, judged).rows if row.id == ring.id).status == "later"
    fine = apply_all(judged, [JudgeRow(row_ids=(ring.id,), verdict="fine")])
    row = next(row for row in view(kept, fine).rows if row.id == ring.id)
    assert (row.status, row.outcome) == ("done", "as it should be")
    assert apply_all(fine, [JudgeRow(row_ids=(ring.id,), verdict=None)]).judged == ()


def test_the_command_line_prints_the_round(tmp_path):
    files = []
    for name, x in sounds().items():
        files.append(tmp_path / f"{name}.wav")
        soundfile.write(files[-1], x.T, RATE, subtype="PCM_24")
    roles = [word for role in ("acoustic guitar", "strings", "strings") for word in ("--role", role)]
    done = mivlo("round", *map(str, files), *roles, "--top", "6", "--json", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    assert len(told["items"]) == 6
    first = told["items"][0]
    assert {"track", "kind", "hz", "q", "excess_db", "confidence", "in_mix_db", "change_db", "heard", "covered_by",
            "times", "move"} <= set(first)  # fmt: skip
    assert {item["heard"] for item in told["items"]} <= {"plain", "faint", "lost"}
    assert any(abs(1200 * np.log2(item["hz"] / 431.0)) < 40 for item in told["items"])
    plan = told["plan"]
    assert len(plan["moves"]) == len(plan["curve"])
    for move in plan["moves"]:
        assert move["move"]["listens_to"] == Path(move["for"]).name
        assert move["move"]["depth_db"] >= -4.0  # of a single track no more by itself
    gains = [0.0, *(point["gain_sone"] for point in plan["curve"])]
    assert gains == sorted(gains)
    assert {row["track"] for row in told["cellar"]} == set(map(str, files))
    missing = mivlo("round", str(tmp_path / "none.wav"), cwd=tmp_path)
    assert (missing.returncode, "no such file" in missing.stderr) == (2, True)


def test_faults_of_files():
    random = np.random.default_rng(3)
    clean = 0.1 * random.standard_normal((2, 2 * RATE))

    def kinds(x: np.ndarray) -> list[str]:
        return [one.kind for one in find_file_faults(ArraySource(x), sample_rate_hz=RATE)]

    assert kinds(clean) == []
    assert kinds(np.zeros((2, RATE))) == []
    assert kinds(np.clip(8.0 * clean, -1.0, 1.0)) == ["clipped"]
    assert kinds(clean + 0.02) == ["off-zero"]
    gap = clean.copy()
    gap[:, RATE : RATE + 900] = 0.0
    [fault] = find_file_faults(ArraySource(gap), sample_rate_hz=RATE)
    assert (fault.kind, fault.times_s) == ("dropouts", (pytest.approx(1.0),))
    assert kinds(clean * [[1.0], [0.0]]) == ["silent-side"]
    assert kinds(clean[[0, 0]]) == ["equal-sides"]
    ends = clean.copy()
    ends[:, RATE:] = 0.0  # it just ends
    assert kinds(ends) == []


@pytest.mark.parametrize(
    ("seconds", "rate_hz", "kind"),
    [(100.0, 48_000.0, None), (91.875, 44_100.0, "other-rate"), (60.0, 48_000.0, "late-start"), (99.5, 48_000.0, None)],
)
def test_what_a_length_says(seconds, rate_hz, kind):
    found = length_faults(seconds, start_s=0.0, longest_s=100.0, original_rate_hz=rate_hz)
    assert [one.kind for one in found] == ([kind] if kind else [])


def test_what_is_drafted_for_later_hides_nobody_and_is_not_looked_at():
    now = session()
    later = apply_all(now, [DraftStandIns(group_id="0" * 32)])
    [room] = later.groups
    assert who_plays(later) == who_plays(now)
    asked = [asked for _, asked in (*round_questions(later), *last_questions(later), *later_questions(later))]
    assert room.id not in {getattr(one, "strip_id", None) for one in asked}
