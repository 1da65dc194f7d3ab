"""Spectra smoothed over a part of an octave, or as wide as the ear's own filters: for the eye, not for the finder."""

from functools import lru_cache
from typing import Literal

import numpy as np

from mivlo.core.ensemble.hearing import erb_hz
from mivlo.core.spectra.average import AXIS_HZ, BANDS_PER_OCTAVE
from mivlo.core.units import Array, power_to_db

__all__ = ["OCTAVES", "Smoothing", "smoothed"]

Smoothing = Literal["none", "1/24", "1/6", "1/3", "ear"]
OCTAVES: dict[Smoothing, float] = {"1/24": 1.0 / 24.0, "1/6": 1.0 / 6.0, "1/3": 1.0 / 3.0}


def smoothed(level_db: Array, smoothing: Smoothing) -> Array:
    """Return (bands,) levels at the axis' frequencies, each the mean power of what lies around it.

    Raises
    ------
    Nothing.

    Source: mean power over a part of an octave (common practice, no source); for the ear the rounded exponential filter
    of B. R. Glasberg, B. C. J. Moore, Hearing Research 47, 1990 (from memory)
    """
    if smoothing == "none":
        return level_db
    power = 10.0 ** (np.asarray(level_db, dtype=np.float64) / 10.0)
    return np.asarray(power_to_db(_weights(smoothing) @ power))


@lru_cache
def _weights(smoothing: Smoothing) -> Array:
    """Return (bands, bands): how much of each place's power each mean has; rows sum up to 1."""
    if smoothing == "ear":
        g = np.abs(AXIS_HZ[None, :] - AXIS_HZ[:, None]) / AXIS_HZ[:, None]
        pg = 4.0 * AXIS_HZ[:, None] / erb_hz(AXIS_HZ)[:, None] * g
        # Bands of the axis get wider with frequency: in hertz, a filter sees that much more of the higher ones.
        weights = (1.0 + pg) * np.exp(-pg) * AXIS_HZ[None, :]
    else:
        half = 0.5 * OCTAVES[smoothing] * BANDS_PER_OCTAVE
        apart = np.abs(np.arange(len(AXIS_HZ))[None, :] - np.arange(len(AXIS_HZ))[:, None])
        weights = np.clip(half + 0.5 - apart, 0.0, 1.0)  # the bands at the edges count in part
    return np.asarray(weights / weights.sum(axis=1, keepdims=True))
