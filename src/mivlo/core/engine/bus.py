"""What a group or the mix takes in: the sum of its members behind their faders, with some of its past."""

from collections.abc import Sequence

import numpy as np

from mivlo.core.engine.strip import BLOCK_GRID_FRAMES, PREROLL_S, Strip
from mivlo.core.engine.tape import Tape
from mivlo.core.units import Array

__all__ = ["Bus"]


class Bus:
    """Sums its members in the order of the stream; what was summed is kept for as long as a pre-roll reaches back."""

    def __init__(self, *, frame: int, sample_rate_hz: float) -> None:
        self.members: Sequence[Strip] = ()
        self._tape = Tape(2, frame=frame)
        self._reach = round(PREROLL_S * sample_rate_hz) + 2 * BLOCK_GRID_FRAMES

    def read(self, frame: int, n_frames: int) -> Array:
        """Return (2, n_frames) from a frame on: summed anew where it was not before, silence before the first."""
        if frame + n_frames > self._tape.until:
            self._sum(frame + n_frames)
        return self._tape.read(frame, n_frames)

    def cut(self, frame: int) -> None:
        """Forget what was summed from a frame on."""
        self._tape.cut(frame)

    def forget_before(self, frame: int) -> None:
        """Let go of what no pre-roll from that frame on can reach."""
        self._tape.forget_before(frame - self._reach)

    def _sum(self, until: int) -> None:
        at = self._tape.until
        block = np.zeros((2, until - at))
        for member in self.members:
            if member.silent_from(at):
                member.extend(until)
            else:
                left, right = member.fader(at, block.shape[1])
                block[0] += left
                block[1] += right
        self._tape.append(block)
