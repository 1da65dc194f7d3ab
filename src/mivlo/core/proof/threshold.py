"""The least that is heard: which depth of a move to try next, and what the answers so far say of the threshold.

Two-choice trials, each at the mean of the posterior of the threshold (Watson and Pelli 1983, "QUEST"; the mean in
place of their mode after King-Smith et al. 1994), with the slope unknown and an answer in fifty a slip. Written from
memory.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from pydantic import Field

from mivlo.core.model.base import Frozen
from mivlo.core.units import Array

__all__ = ["MOST_TRIALS", "Threshold", "Tried", "chance_of_right", "next_depth_db", "threshold_of"]

MOST_TRIALS = 40
NARROW_DB = 2.0  # of the interval that holds nine tenths: then it is known well enough
STEP_DB, LEAST_DEPTH_DB = 0.1, 0.2
BEYOND = 1.5  # how far beyond the whole depth thresholds are thought of: they are "not heard even at full depth"
SLOPES_DB = np.array([0.25, 0.35, 0.5, 0.7, 1.0, 1.4, 2.0])
LAPSES = 0.02


class Tried(Frozen):
    """One trial: at which depth, and whether the side with the move was told from the one without."""

    depth_db: float = Field(gt=0.0, le=200.0)
    right: bool


@dataclass(frozen=True, slots=True)
class Threshold:
    """Where a listener tells right from wrong three times of four; `low_db` to `high_db` holds it nine times of ten.

    `heard` is false where even the whole depth is more likely below the threshold than above.
    """

    mean_db: float
    low_db: float
    high_db: float
    heard: bool
    done: bool


def chance_of_right(depth_db: Array | float, threshold_db: Array | float, slope_db: Array | float) -> Array:
    """Return how likely a two-choice trial is answered rightly: a half from guessing, a logistic function above it.

    Raises
    ------
    Nothing.

    Source: the usual psychometric function of two-choice trials; slips as in Watson and Pelli (1983)
    """
    seen = 1.0 / (1.0 + np.exp(-np.clip((np.asarray(depth_db) - threshold_db) / slope_db, -60.0, 60.0)))
    return np.asarray(0.5 + (0.5 - LAPSES / 2.0) * seen)


def threshold_of(tried: Sequence[Tried], *, full_db: float) -> Threshold:
    """Return what the trials so far say of the threshold of a move of a full depth.

    Raises
    ------
    Nothing.

    Source: Watson and Pelli (1983)
    """
    at_db, posterior = _posterior(tried, full_db)
    cumulated = np.cumsum(posterior)
    low, high = (float(at_db[int(np.searchsorted(cumulated, part))]) for part in (0.05, 0.95))
    heard = float(posterior[at_db <= full_db].sum()) >= 0.5
    narrow = high - low < NARROW_DB
    return Threshold(float(at_db @ posterior), low, high, heard, narrow or len(tried) >= MOST_TRIALS)


def next_depth_db(tried: Sequence[Tried], *, full_db: float) -> float:
    """Return the depth of the next trial: the posterior's mean, the whole depth at most. Raises nothing.

    Source: as `threshold_of`
    """
    return float(np.clip(threshold_of(tried, full_db=full_db).mean_db, LEAST_DEPTH_DB, full_db))


def _posterior(tried: Sequence[Tried], full_db: float) -> tuple[Array, Array]:
    """Return depths, and how likely the threshold is at each, over all slopes."""
    at_db = np.arange(LEAST_DEPTH_DB, BEYOND * full_db + STEP_DB, STEP_DB)
    log_likelihood = np.zeros((len(SLOPES_DB), len(at_db)))
    for one in tried:
        right = chance_of_right(one.depth_db, at_db[None, :], SLOPES_DB[:, None])
        log_likelihood += np.log(right if one.right else 1.0 - right)
    likelihood = np.exp(log_likelihood - log_likelihood.max()).sum(axis=0)
    return at_db, likelihood / likelihood.sum()
