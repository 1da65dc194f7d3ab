"""A gain that never jumps: it crossfades to each new value over some steps of the control grid."""

import numpy as np

from mivlo.core.kernels.svf_chain import CONTROL_FRAMES
from mivlo.core.units import Array

__all__ = ["STEPS", "Ramp"]

STEPS = 8  # 10.7 ms at 48 kHz
_CURVE = 0.5 - 0.5 * np.cos(np.pi * np.arange(STEPS * CONTROL_FRAMES) / (STEPS * CONTROL_FRAMES))


class Ramp:
    """A value that glides along a raised cosine; frames are taken in multiples of the control grid."""

    def __init__(self, value: float) -> None:
        self._from = self._goal = value
        self._done = len(_CURVE)

    def set_goal(self, value: float) -> None:
        """Start to glide to another value from where the ramp is now."""
        if value != self._goal:
            self._from, self._goal, self._done = self.value, value, 0

    @property
    def value(self) -> float:
        """Return the value at this frame."""
        if self._done >= len(_CURVE):
            return self._goal
        return float(self._from + (self._goal - self._from) * _CURVE[self._done])

    @property
    def resting(self) -> bool:
        """Tell whether the goal is reached."""
        return self._done >= len(_CURVE)

    def take(self, n_frames: int) -> float | Array:
        """Return the next values: one number while the ramp rests, else (n_frames,) float64."""
        if self.resting:
            return self._goal
        part = _CURVE[self._done : self._done + n_frames]
        self._done += len(part)
        out = np.full(n_frames, self._goal)
        out[: len(part)] = self._from + (self._goal - self._from) * part
        return out
