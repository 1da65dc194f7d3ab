"""The pitch pipe: a soft plain tone beside the mix, to match a ring by ear."""

from typing import Self

import numpy as np

from mivlo.core.cloning import sharing_clone
from mivlo.core.engine.ramp import Ramp
from mivlo.core.kernels import CONTROL_FRAMES
from mivlo.core.units import Array, db_to_gain

__all__ = ["LEVEL_DB", "Pipe"]

LEVEL_DB = -32.0  # of full scale: plain beside music, never loud
GLIDE = 0.25  # of what is left to another frequency, each control step: a moved pointer slides, it does not click
ARRIVED = 1e-6


class Pipe:
    """A sine that fades in and out and slides to other frequencies; told in whole control steps, however many at
    once."""

    def __init__(self, hz: float | None, *, sample_rate_hz: float) -> None:
        self._rate = sample_rate_hz
        self._goal = self._hz = hz or 440.0
        self._open = Ramp(0.0 if hz is None else 1.0)
        self._cycles = 0.0

    def clone(self) -> Self:
        """Return one that goes on from here on its own."""
        other = sharing_clone(self)
        other._open = self._open.clone()
        return other

    def set_goal(self, hz: float | None, *, frame: int) -> None:
        """Sound at a frequency from a frame on, or fade out."""
        if hz is not None:
            self._goal = hz
            if self._open.goal == 0.0 and self._open.rests_at(frame):
                self._hz, self._cycles = hz, 0.0  # it was silent: nothing slides
        self._open.set_goal(0.0 if hz is None else 1.0, frame=frame)

    def add_to(self, out: Array, frame: int) -> None:
        """Add the tone to (2, n) of whole control steps from a stream frame on; nothing is touched while it is
        silent."""
        if self._open.goal == 0.0 and self._open.rests_at(frame):
            return
        ramp = np.arange(CONTROL_FRAMES) / CONTROL_FRAMES
        for first in range(0, out.shape[1], CONTROL_FRAMES):
            then = self._hz + GLIDE * (self._goal - self._hz)
            then = self._goal if abs(then / self._goal - 1.0) < ARRIVED else then
            steps = CONTROL_FRAMES / self._rate
            cycles = self._cycles + steps * (self._hz * ramp + 0.5 * (then - self._hz) * ramp**2)
            tone = db_to_gain(LEVEL_DB) * np.sin(2.0 * np.pi * cycles)
            out[:, first : first + CONTROL_FRAMES] += tone * self._open.take(frame + first, CONTROL_FRAMES)
            self._cycles = (self._cycles + steps * 0.5 * (self._hz + then)) % 1.0
            self._hz = then
