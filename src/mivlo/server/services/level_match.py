"""Measuring what level matches and guards go by, in the analysis processes; equal questions are measured once."""

from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache
from pathlib import Path

from mivlo.core.engine.listening import Listening, MatchQuestion, Together, match_question
from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import render_mix
from mivlo.core.engine.source import open_source
from mivlo.core.level_match import LevelMatch, Loudness, loudness_of, matched
from mivlo.server.services.imports import STORED
from mivlo.server.services.pool import in_pool
from mivlo.server.services.state import SessionState
from mivlo.server.settings import settings

__all__ = ["level_match", "level_match_of_mix", "level_match_of_strip"]


def level_match(question: MatchQuestion, *, sample_rate_hz: int) -> LevelMatch:
    """Return how loud two ways of listening are, and what makes them equal."""

    def measured(mix: Mix) -> Loudness:
        return _loudness_of(mix, question.start, question.end, sample_rate_hz)

    with ThreadPoolExecutor(2) as both:
        before, after = both.map(measured, (question.without, question.within))
    return matched(before, after)


def level_match_of_strip(state: SessionState, strip_id: str) -> LevelMatch:
    """Return the level match of a strip's ledger, listened to alone."""
    return _level_match(state, Listening(strip_id=strip_id, alone=True))


def level_match_of_mix(state: SessionState) -> LevelMatch:
    """Return the level match of all ledgers, over the whole mix."""
    return _level_match(state, Listening(together=Together(compares="all-moves")))


def _level_match(state: SessionState, listening: Listening) -> LevelMatch:
    question = match_question(state, listening, end_frame=state.end_frame())
    assert question is not None
    return level_match(question, sample_rate_hz=state.sample_rate_hz)


@lru_cache(maxsize=512)
def _loudness_of(mix: Mix, start: int, end: int, sample_rate_hz: int) -> Loudness:
    return in_pool(_loudness, str(settings().data / "audio"), mix, start, end, sample_rate_hz)


def _loudness(audio_folder: str, mix: Mix, start: int, end: int, sample_rate_hz: int) -> Loudness:
    if end <= start:
        return Loudness(loudness_lufs=None, true_peak_db=None)
    blocks = render_mix(
        mix,
        lambda audio_id: open_source(Path(audio_folder) / audio_id / STORED),
        start=start,
        end=end,
        sample_rate_hz=sample_rate_hz,
    )
    return loudness_of(blocks, sample_rate_hz=sample_rate_hz)
