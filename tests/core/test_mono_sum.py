"""What falls in mono is told with the tracks that make it fall."""

from pathlib import Path

import numpy as np

from mivlo.core.analyses.base import Need, Work
from mivlo.core.analyses.registry import ANALYSES
from mivlo.core.engine.source import ArraySource
from mivlo.core.model import RecordedSession

RATE = 48_000
random = np.random.default_rng(9)
NOISE = 0.1 * random.standard_normal((1, 3 * RATE))
TONE = 0.1 * np.sin(2 * np.pi * 300.0 * np.arange(3 * RATE) / RATE)[None]
SOUNDS = {"a" * 32: np.concatenate([TONE, -TONE]), "b" * 32: NOISE, "c" * 32: np.concatenate([NOISE, NOISE[:, ::-1]])}


def told(*names: str) -> list:
    facts = {"original_name": "x.wav", "format": "WAV", "subtype": "PCM_24", "original_rate_hz": RATE}
    lengths = {"n_frames": 3 * RATE, "original_frames": 3 * RATE}
    audio = {one: {"id": one, "n_channels": len(x), **lengths, **facts} for one, x in SOUNDS.items()}
    tracks = [{"id": name, "audio_id": name * 32} for name in names]
    session = RecordedSession.model_validate({"id": "s", "sample_rate_hz": RATE, "tracks": tracks, "audio": audio})
    analysis = ANALYSES["mono-sum"]
    need = Need(analysis, analysis.question(session, analysis.asked(), lambda _: None))
    work = Work(lambda one: ArraySource(SOUNDS[one]), lambda _: None, lambda _: Path(), Path(), lambda _: None)
    return analysis.analyse(work, need.params).losses


def test_sides_that_cancel_are_told_where_they_do_and_by_whom():
    [loss, *others] = told("a", "b")
    assert loss.low_hz < 300.0 < loss.high_hz
    assert loss.falls_db < -6.0
    assert loss.track_ids == ["a"]
    assert others == []


def test_sides_that_have_nothing_in_common_are_no_fault():
    assert told("b", "c") == []
