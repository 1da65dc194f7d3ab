"""Twice, four or eight times the rate and back, for what makes frequencies that the rate has no room for.

Source: half-band filters in cascade (R. Crochiere, L. Rabiner, Multirate Digital Signal Processing, 1983, from memory);
windowed sinc with Kaiser's window, 80 dB.
"""

from functools import lru_cache
from typing import Self

import numpy as np

from mivlo.core import kernels
from mivlo.core.cloning import sharing_clone
from mivlo.core.kernels import CONTROL_FRAMES
from mivlo.core.units import Array

__all__ = ["Oversampler"]

LENGTHS = (107, 23, 15)  # of the first doubling, which is the steep one, and of those behind it
KAISER_80_DB = 7.86


@lru_cache(maxsize=4)
def _taps(length: int) -> Array:
    """Return every second tap of a half-band filter: the others are zero, but for the middle one."""
    taps = np.sinc(0.5 * (np.arange(length) - length // 2)) * np.kaiser(length, KAISER_80_DB)
    return np.ascontiguousarray((taps / taps.sum())[::2])


class Oversampler:
    """One channel up by 2^doublings and, behind what is done to it there, down again; late by `latency_frames`."""

    def __init__(self, doublings: int, *, latency_frames: int = 2 * CONTROL_FRAMES) -> None:
        self._taps = [_taps(length) for length in LENGTHS[:doublings]]
        self._up = [np.zeros(len(taps) - 1) for taps in self._taps]
        self._down = [np.zeros(2 * (len(taps) - 1) + 1) for taps in self._taps]
        factor = 2**doublings
        # What the filters delay, in frames of the highest rate; the rest is made up there.
        delayed = sum((length - 1) * factor // 2**step for step, length in enumerate(LENGTHS[:doublings], 1))
        self._waiting = np.zeros(latency_frames * factor - delayed)

    def up(self, x: Array) -> Array:
        """Return (factor · n,) of (n,)."""
        for taps, past in zip(self._taps, self._up, strict=True):
            y = np.empty(2 * len(x))
            kernels.shaping.doubled(x, past, taps, y)
            x = y
        return x

    def down(self, y: Array) -> Array:
        """Return (n,) of (factor · n,)."""
        whole = np.concatenate([self._waiting, y])
        y, self._waiting = whole[: len(y)], whole[len(y) :].copy()
        for taps, past in zip(reversed(self._taps), reversed(self._down), strict=True):
            x = np.empty(len(y) // 2)
            kernels.shaping.halved(np.ascontiguousarray(y), past, taps, x)
            y = x
        return y

    def clone(self) -> Self:
        other = sharing_clone(self)
        other._up, other._down = [one.copy() for one in self._up], [one.copy() for one in self._down]
        return other

    def is_finite(self) -> bool:
        return all(bool(np.isfinite(one).all()) for one in (*self._up, *self._down, self._waiting))
