"""What cuts took of a track's lows and highs, and the warmth and air that bring a share of it back."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from mivlo.core.engine.source import ArraySource
from mivlo.core.finder.level_map import active_frames, level_map
from mivlo.core.moves.air import Air
from mivlo.core.moves.warmth import Warmth
from mivlo.core.units import Array, Floats

__all__ = ["HIGHS_HZ", "LOWS_HZ", "GivenBack", "give_back"]

LOWS_HZ, HIGHS_HZ = (50.0, 1_000.0), (3_000.0, 16_000.0)
LOUDNESS_POWER = 0.3  # of a band's power: loudness grows as that (Stevens' law)
HEARD_DB = 45.0  # under a track's highest bands, what is there is not heard beside them
WORTH_GIVING = 0.03  # of a region's loudness; less is not missed
WARMTHS_HZ, AIRS_HZ = (200.0, 300.0, 500.0, 120.0), (3_500.0, 5_000.0)
LEAST_SHARE = 0.15  # of what was wanted
STRONGEST_DB, WEAKEST_DB, TURNS = -3.0, -40.0, 6
CUT_FROM_DB = 3.0  # a band that lost so much was cut on purpose
CURED_RISE_DB = 1.0  # what a fault that was cut may come up by
BESIDE_OCTAVES = 1.0 / 12.0

Move = Warmth | Air
Render = Callable[[Sequence[Move]], Array]
"""(moves that stand at the head of the ledger) -> (channels, frames) behind all of it."""


@dataclass(frozen=True, slots=True)
class GivenBack:
    """Parts, 0 to 1, of the loudness of lows and highs that are gone before and after; how much of what is added
    lies where something was cut."""

    moves: tuple[Move, ...]
    lost_low: float
    lost_high: float
    left_low: float
    left_high: float
    inside_cuts: float


def give_back(
    untreated: Array, render: Render, *, share: float, cured_hz: Sequence[float], sample_rate_hz: float
) -> GivenBack:  # fmt: skip
    """Return the harmonics that bring back a share, 0 to 1, of what the moves took.

    Parameters
    ----------
    untreated : (channels, frames)
    render : of the same frames
    cured_hz : faults that must not come up again

    Raises
    ------
    Nothing: of silence nothing is gone.

    Source: loudness of a region by Stevens' power law (exponent 0.3)
    """
    before = _levels_db(untreated, sample_rate_hz)
    if before is None:
        return GivenBack((), 0.0, 0.0, 0.0, 0.0, 0.0)
    hz, frames, before_db = before
    after_db = _levels_of(render(()), frames, sample_rate_hz)
    taken_db = np.mean(before_db - after_db, axis=0)
    faults = [np.abs(np.log2(hz / one)) < BESIDE_OCTAVES for one in cured_hz]

    floor_db = float(np.percentile(before_db.max(axis=1), 98.0)) - HEARD_DB

    def lost(levels_db: Floats, limits_hz: tuple[float, float]) -> float:
        inside = (hz >= limits_hz[0]) & (hz <= limits_hz[1])
        heard = (np.maximum(one[:, inside], floor_db) - floor_db for one in (before_db, levels_db))
        was, now = (float(np.mean(10.0 ** (LOUDNESS_POWER * one / 10.0) - 1.0)) for one in heard)
        return float(max(1.0 - now / max(was, 1e-12), 0.0))

    def measured(moves: Sequence[Move]) -> Floats:
        return _levels_of(render(moves), frames, sample_rate_hz)

    def holds(levels_db: Floats) -> bool:
        """Tell whether no fault that was cut comes up."""
        return all(np.mean((levels_db - after_db)[:, one]) < CURED_RISE_DB for one in faults)

    def drafted(limits_hz: tuple[float, float], tries: Sequence[Move]) -> Move | None:
        gone = lost(after_db, limits_hz)
        aim = gone * (1.0 - share)
        best: tuple[float, Move] | None = None
        if gone < WORTH_GIVING:
            return None
        for one in tries:
            low, high = WEAKEST_DB, STRONGEST_DB
            for _ in range(TURNS):
                middle = (low + high) / 2.0
                levels_db = measured([one.model_copy(update={"amount_db": middle})])
                enough = lost(levels_db, limits_hz) <= aim or not holds(levels_db)
                low, high = (low, middle) if enough else (middle, high)
            move = one.model_copy(update={"amount_db": round(low, 1)})
            off = abs(lost(measured([move]), limits_hz) - aim)
            if best is None or off < best[0] - 0.01:
                best = off, move
            if off < 0.02:
                break
        # Where a fault would come up before anything else does, it is better left.
        return best[1] if best is not None and best[0] < (1.0 - LEAST_SHARE) * (gone - aim) else None

    warmth = drafted(LOWS_HZ, [Warmth(hz=one) for one in WARMTHS_HZ])
    air = drafted(HIGHS_HZ, [Air(hz=one) for one in AIRS_HZ])
    moves = tuple(one for one in (warmth, air) if one is not None)
    then_db = measured(moves) if moves else after_db
    added = np.maximum(10.0 ** (then_db / 10.0) - 10.0 ** (after_db / 10.0), 0.0).sum(axis=0)
    inside = float(added[taken_db >= CUT_FROM_DB].sum() / max(added.sum(), 1e-30))
    return GivenBack(
        moves, lost(after_db, LOWS_HZ), lost(after_db, HIGHS_HZ), lost(then_db, LOWS_HZ), lost(then_db, HIGHS_HZ),
        inside,
    )  # fmt: skip


def _levels_db(x: Array, rate: float) -> tuple[Floats, np.ndarray, Floats] | None:
    levels = level_map(ArraySource(x), start=0, end=x.shape[1], sample_rate_hz=rate)
    frames = active_frames(levels)
    return (levels.hz, frames, levels.levels_db[frames]) if len(frames) else None


def _levels_of(x: Array, frames: np.ndarray, rate: float) -> Floats:
    return np.asarray(level_map(ArraySource(x), start=0, end=x.shape[1], sample_rate_hz=rate).levels_db[frames])
