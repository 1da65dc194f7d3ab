"""A gain that never jumps: it crossfades to each new value over some steps of the control grid."""

import numpy as np

from mivlo.core.kernels.svf_chain import CONTROL_FRAMES
from mivlo.core.units import Array

__all__ = ["STEPS", "Ramp"]

STEPS = 8  # 10.7 ms at 48 kHz
_CURVE = 0.5 - 0.5 * np.cos(np.pi * np.arange(STEPS * CONTROL_FRAMES) / (STEPS * CONTROL_FRAMES))


class Ramp:
    """A value that glides along a raised cosine, told by the stream frame: it can be read anywhere, any number of
    times."""

    def __init__(self, value: float) -> None:
        self._from = self.goal = value
        self._start = -(1 << 62)

    def set_goal(self, value: float, *, frame: int) -> None:
        """Start to glide to another value at a frame, from where the ramp is then."""
        if value != self.goal:
            self._from, self.goal, self._start = self.at(frame), value, frame

    def at(self, frame: int) -> float:
        """Return the value at a frame."""
        done = frame - self._start
        if done >= len(_CURVE):
            return self.goal
        return float(self._from + (self.goal - self._from) * _CURVE[max(done, 0)])

    def rests_at(self, frame: int) -> bool:
        """Tell whether the goal is reached at a frame."""
        return frame - self._start >= len(_CURVE)

    def take(self, frame: int, n_frames: int) -> float | Array:
        """Return the values from a frame on: one number where the ramp rests, else (n_frames,) float64."""
        done = frame - self._start
        if done >= len(_CURVE):
            return self.goal
        out = np.full(n_frames, self.goal)
        first = max(done, 0)
        part = _CURVE[first : done + n_frames] if done + n_frames > 0 else _CURVE[:0]
        out[first - done : first - done + len(part)] = self._from + (self.goal - self._from) * part
        out[: max(first - done, 0)] = self._from
        return out
