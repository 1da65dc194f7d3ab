"""From a suspect to a move that would cure it: as shallow as does the job, never beyond 8 dB by itself."""

from dataclasses import dataclass

import numpy as np

from mivlo.core.engine.source import Source
from mivlo.core.moves import Move
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.moves.dynamic_low_cut import DynamicLowCut
from mivlo.core.processors.stage import Context
from mivlo.core.units import Array

__all__ = ["DEEPEST_DB", "Proposals", "propose"]

DEEPEST_DB = 8.0  # common practice, no source: seldom above it
LISTENED_S = 12.0  # of the stretch, to set a threshold by
BLOCK_FRAMES = 8_192
HIGHEST_HZ_OF_RATE = 0.45
QUIET_PERCENTILE, LOUD_PERCENTILE = 40.0, 90.0
HEARD_DB = 45.0  # below its loudest, a band is silent


@dataclass(frozen=True, slots=True)
class Proposals:
    """Two answers to a suspect: a cut that stands still, and one that acts only while the fault sounds."""

    cut: Move
    tame: Move


def propose(
    source: Source, *, hz: float, q: float, excess_db: float, start: int, end: int, sample_rate_hz: float,
    start_name: str = "when loud",
) -> Proposals:  # fmt: skip
    """Return a bell, and a dynamic move whose threshold lies between the quiet and the loud moments of what it hears.

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
        return Proposals(cut, _with_threshold(DynamicLowCut.model_validate(values), source, start, end, sample_rate_hz))
    values = next(start.values for start in DynamicBell.starts if start.label == start_name)
    own = values if start_name == "sibilance" else {**values, **figures, "depth_db": depth_db}
    tame = DynamicBell.model_validate({**own, "hz": figures["hz"]})
    return Proposals(cut, _with_threshold(tame, source, start, end, sample_rate_hz))


def _with_threshold(
    move: DynamicBell | DynamicLowCut, source: Source, start: int, end: int, sample_rate_hz: float
) -> DynamicBell | DynamicLowCut:  # fmt: skip
    """Return the move with a threshold between what it hears in the quiet and in the loud moments."""
    levels = _heard(move, source, start, min(end, start + round(LISTENED_S * sample_rate_hz)), sample_rate_hz)
    sounding = levels[levels > levels.max() - HEARD_DB]
    if not len(sounding):
        return move
    quiet, loud = np.percentile(sounding, (QUIET_PERCENTILE, LOUD_PERCENTILE))
    return move.model_copy(update={"threshold_db": round(float(np.clip(0.5 * (quiet + loud), -90.0, 0.0)), 1)})


def _heard(move: DynamicBell | DynamicLowCut, source: Source, start: int, end: int, sample_rate_hz: float) -> Array:
    """Return the levels in dB that the move's own detector reads over a stretch."""
    stage = move.stage("p", on=True, keepers=(), sample_rate_hz=sample_rate_hz).make(source.n_channels, sample_rate_hz)
    levels = []
    for first in range(start, end, BLOCK_FRAMES):
        stage.process(source.read(first, BLOCK_FRAMES), Context(first - start))
        trace = stage.trace()
        assert trace is not None
        levels.append(trace.level_db.copy())
    return np.concatenate(levels) if levels else np.zeros(0)
