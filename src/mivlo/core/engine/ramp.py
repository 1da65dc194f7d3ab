"""A gain that never jumps: it crossfades to each new value over some steps of the control grid."""

from typing import Self

import numpy as np

from mivlo.core.kernels import CONTROL_FRAMES
from mivlo.core.units import Array

__all__ = ["FADE_OUT", "STEPS", "Ramp"]

STEPS = 8  # 10.7 ms at 48 kHz
_CURVE = 0.5 - 0.5 * np.cos(np.pi * np.arange(STEPS * CONTROL_FRAMES) / (STEPS * CONTROL_FRAMES))
FADE_OUT = 1.0 - _CURVE  # the counterpart of what glides in
_EVER = -(1 << 62)
_KEPT_GLIDES = 64  # more than come within the longest queue of sound


class Ramp:
    """A value that glides along a raised cosine, told by the stream frame: it can be read anywhere, any number of
    times, and be taken back."""

    def __init__(self, value: float) -> None:
        self._glides = [(_EVER, value, value)]  # from which frame on, from which value, to which; oldest first

    @property
    def goal(self) -> float:
        """Return the value that it rests at in the end."""
        return self._glides[-1][2]

    def set_goal(self, value: float, *, frame: int) -> None:
        """Start to glide to another value at a frame, from where the ramp is then."""
        if value == self.goal:
            return
        glides = [*self._glides, (frame, self.at(frame), value)]
        if len(glides) > 2 * _KEPT_GLIDES:
            glides = [(_EVER, glides[-_KEPT_GLIDES][1], glides[-_KEPT_GLIDES][1]), *glides[-_KEPT_GLIDES:]]
        self._glides = glides  # another list, never another content: somebody may be reading

    def take_back(self, frame: int) -> bool:
        """Undo what was set for later than a frame; returns whether anything was."""
        kept = [glide for glide in self._glides if glide[0] <= frame]
        undone = len(kept) != len(self._glides)
        self._glides = kept
        return undone

    def clone(self) -> Self:
        """Return one that goes on from here on its own."""
        other = type(self)(0.0)
        other._glides = self._glides
        return other

    def at(self, frame: int) -> float:
        """Return the value at a frame."""
        start, before, goal = next(glide for glide in reversed(self._glides) if glide[0] <= frame)
        done = frame - start
        return goal if done >= len(_CURVE) else float(before + (goal - before) * _CURVE[done])

    def rests_at(self, frame: int) -> bool:
        """Tell whether the goal is reached at a frame."""
        return frame - self._glides[-1][0] >= len(_CURVE)

    def take(self, frame: int, n_frames: int) -> float | Array:
        """Return the values from a frame on: one number where the ramp rests, else (n_frames,) float64."""
        if self.rests_at(frame):
            return self.goal
        out = np.empty(n_frames)
        end = frame + n_frames
        for start, before, goal in reversed(self._glides):
            if start >= end:
                continue
            first = max(start, frame)
            part = _CURVE[first - start : end - start]
            gliding = before + (goal - before) * part
            out[first - frame : first - frame + len(part)] = gliding
            out[first - frame + len(part) : end - frame] = goal
            if start <= frame:
                break
            end = start
        return out
