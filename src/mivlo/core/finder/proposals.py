"""From a suspect to a move that would cure it: as shallow as does the job, never beyond 8 dB by itself."""

from dataclasses import dataclass

import numpy as np

from mivlo.core.engine.source import Source
from mivlo.core.kernels import SUBSTEP_FRAMES
from mivlo.core.moves import Move
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.moves.dynamic_low_cut import DynamicLowCut
from mivlo.core.processors.stage import Context
from mivlo.core.processors.timed import Spans
from mivlo.core.units import Array

__all__ = ["DEEPEST_DB", "Proposals", "propose", "with_threshold"]

DEEPEST_DB = 8.0  # common practice, no source: seldom above it
LISTENED_S = 12.0  # of the stretch, to set a threshold by
BLOCK_FRAMES = 8_192
HIGHEST_HZ_OF_RATE = 0.45
WITHIN_PERCENTILE = 25.0  # of the levels within bursts: so that the weaker ones are reached too
PIECES, CANDIDATES = 4, 24
LOWER_DB = 12.0  # below all that is heard: there a move acts all the time
LOUD_PERCENTILE = 60.0
AS_GOOD, LEAST_MISS = 1.05, 0.05  # of the mean square of what a gain misses, in dB squared
HEARD_DB = 45.0  # below its loudest, a band is silent


@dataclass(frozen=True, slots=True)
class Proposals:
    """Two answers to a suspect: a cut that stands still, and one that acts only while the fault sounds."""

    cut: Move
    tame: Move


def propose(
    source: Source, *, hz: float, q: float, excess_db: float, times: Spans, start: int, end: int, sample_rate_hz: float,
    start_name: str = "when loud",
) -> Proposals:  # fmt: skip
    """Return a bell, and a dynamic move whose threshold is where it acts most nearly while the fault sounds, and only
    then.

    `times` (start_s, end_s) are those of the fault.

    Raises
    ------
    Nothing.
    """
    hz = float(np.clip(hz, 20.0, min(20_000.0, HIGHEST_HZ_OF_RATE * sample_rate_hz)))
    depth_db = -round(min(excess_db, DEEPEST_DB), 1)
    figures = {"hz": round(hz, 2), "q": round(float(np.clip(q, 0.3, 30.0)), 2)}
    cut = Bell(**figures, gain_db=depth_db)
    if start_name == "plosive":
        values = next(start.values for start in DynamicLowCut.starts if start.label == "plosive")
        bursts = DynamicLowCut.model_validate(values)
        levels, within = _heard(bursts, source, times, start, end, sample_rate_hz)
        threshold_db = _under_bursts(bursts, levels[within])
        return Proposals(cut, bursts.model_copy(update={"threshold_db": threshold_db}))
    values = next(start.values for start in DynamicBell.starts if start.label == start_name)
    own = values if start_name == "sibilance" else {**values, **figures, "depth_db": depth_db}
    tame = DynamicBell.model_validate({**own, "hz": figures["hz"]})
    return Proposals(
        cut, with_threshold(tame, source, times=times, start=start, end=end, sample_rate_hz=sample_rate_hz)
    )


def _under_bursts(move: DynamicLowCut, levels: Array) -> float:
    """Return the threshold so far under what bursts reach that the move reaches its depth there."""
    within_db = float(np.percentile(levels, WITHIN_PERCENTILE)) if len(levels) else move.threshold_db
    return _limited(within_db + move.depth_db / (1.0 - 1.0 / move.ratio))


def with_threshold(
    move: DynamicBell, source: Source, *, times: Spans | None, start: int, end: int, sample_rate_hz: float
) -> DynamicBell:  # fmt: skip
    """Return the move with the threshold at which its gain comes nearest to its depth within the times, to none
    outside.

    Without times (start_s, end_s), it is to act in the loud moments of what it hears.

    Raises
    ------
    Nothing.
    """
    spans = ((start / sample_rate_hz, end / sample_rate_hz),) if times is None else times
    levels, within = _heard(move, source, spans, start, end, sample_rate_hz)
    sounding = levels > levels.max() - HEARD_DB
    if times is None:
        within = levels >= np.percentile(levels[sounding], LOUD_PERCENTILE)
    stage = move.stage("p", on=True, keepers=(), sample_rate_hz=sample_rate_hz).make(1, sample_rate_hz)
    candidates = levels.max() - np.linspace(0.0, HEARD_DB + LOWER_DB, CANDIDATES)
    wanted = np.where(within, move.depth_db, 0.0)
    misses = np.array([np.mean((stage.gains_with(float(at), levels) - wanted)[sounding] ** 2) for at in candidates])
    # The highest of those that are as good: where it is to act all the time, any low one would do.
    as_good = candidates[misses <= AS_GOOD * misses.min() + LEAST_MISS]
    return move.model_copy(update={"threshold_db": _limited(float(as_good.max()))})


def _limited(threshold_db: float) -> float:
    return round(float(np.clip(threshold_db, -90.0, 0.0)), 1)


def _heard(
    move: DynamicBell | DynamicLowCut, source: Source, times: Spans, start: int, end: int, sample_rate_hz: float
) -> tuple[Array, np.ndarray]:
    """Return the levels in dB that the move's own detector reads, and which of them lie within the times."""
    spec = move.stage("p", on=True, keepers=(), sample_rate_hz=sample_rate_hz)
    levels, at_s = [], []
    for first, last in _pieces(times, start, end, sample_rate_hz):
        stage = spec.make(source.n_channels, sample_rate_hz)
        for at in range(first, last, BLOCK_FRAMES):
            stage.process(source.read(at, BLOCK_FRAMES), Context(at - first))
            trace = stage.trace()
            assert trace is not None
            levels.append(trace.level_db.copy())
            at_s.append((first + trace.frame + SUBSTEP_FRAMES * np.arange(len(trace.level_db))) / sample_rate_hz)
    level, seconds = np.concatenate(levels), np.concatenate(at_s)
    return level, np.searchsorted(np.ravel(times), seconds) % 2 == 1


def _pieces(times: Spans, start: int, end: int, sample_rate_hz: float) -> list[tuple[int, int]]:
    """Return stretches of a few seconds spread over where the fault sounds, LISTENED_S together at most."""
    if end - start <= LISTENED_S * sample_rate_hz or not times:
        return [(start, min(end, start + round(LISTENED_S * sample_rate_hz)))]
    length = round(LISTENED_S / PIECES * sample_rate_hz)
    lasts = np.cumsum([b - a for a, b in times])
    found = []
    for part in (np.arange(PIECES) + 0.5) / PIECES:
        index = int(np.searchsorted(lasts, part * lasts[-1]))
        middle_s = times[index][1] - (lasts[index] - part * lasts[-1])
        first = min(max(round(middle_s * sample_rate_hz) - length // 2, start), end - length)
        found.append((first, first + length))
    return found
