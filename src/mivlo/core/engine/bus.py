"""What a group or the mix takes in: the sum of its members behind their faders, with some of its past."""

from collections import deque
from collections.abc import Sequence

import numpy as np

from mivlo.core.engine.strip import BLOCK_GRID_FRAMES, PREROLL_S, Strip
from mivlo.core.units import Array

__all__ = ["Bus"]


class Bus:
    """Sums its members in the order of the stream; what was summed is kept for as long as a pre-roll reaches back."""

    def __init__(self, *, frame: int, sample_rate_hz: float) -> None:
        self.members: Sequence[Strip] = ()
        self._kept: deque[tuple[int, Array]] = deque()
        self._until = frame
        self._reach = round(PREROLL_S * sample_rate_hz) + 2 * BLOCK_GRID_FRAMES

    def read(self, frame: int, n_frames: int) -> Array:
        """Return (2, n_frames) from a frame on: summed anew where it was not before, silence before the first."""
        if frame + n_frames > self._until:
            self._sum(frame + n_frames)
        at, newest = self._kept[-1] if self._kept else (self._until, np.zeros((2, 0)))
        if frame >= at:
            return newest[:, frame - at : frame - at + n_frames].copy()
        out = np.zeros((2, n_frames))
        for start, block in self._kept:
            first, last = max(start, frame), min(start + block.shape[1], frame + n_frames)
            if first < last:
                out[:, first - frame : last - frame] = block[:, first - start : last - start]
        return out

    def cut(self, frame: int) -> None:
        """Forget what was summed from a frame on."""
        while self._kept and self._kept[-1][0] >= frame:
            self._kept.pop()
        if self._kept:
            start, block = self._kept[-1]
            self._kept[-1] = (start, block[:, : frame - start])
        self._until = min(self._until, frame)

    def forget_before(self, frame: int) -> None:
        """Let go of what no pre-roll from that frame on can reach."""
        while self._kept and self._kept[0][0] + self._kept[0][1].shape[1] < frame - self._reach:
            self._kept.popleft()

    def _sum(self, until: int) -> None:
        block = np.zeros((2, until - self._until))
        for member in self.members:
            if not member.silent_from(self._until):
                left, right = member.fader(self._until, block.shape[1])
                block[0] += left
                block[1] += right
            else:
                member.extend(until)
        self._kept.append((self._until, block))
        self._until = until
