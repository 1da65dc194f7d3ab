"""The live spectrum, measured in a process of its own."""

import numpy as np
from numpy.typing import NDArray

from mivlo.core.spectra.average import band_levels
from mivlo.core.spectra.smoothing import Smoothing, smoothed

__all__ = ["measured_levels"]


def measured_levels(
    stretches: tuple[NDArray[np.float32], ...], sample_rate_hz: int, smoothing: Smoothing
) -> list[list[float]]:
    """Return the levels of some (channels, frames) stretches at the frequencies of the axis."""
    levels = (band_levels(x.astype(np.float64), sample_rate_hz=sample_rate_hz) for x in stretches)
    return [np.round(smoothed(one, smoothing), 1).tolist() for one in levels]
