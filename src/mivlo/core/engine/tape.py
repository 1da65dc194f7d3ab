"""Sound that was rendered and is still needed, by the frames of the stream."""

from collections import deque

import numpy as np

from mivlo.core.units import Array

__all__ = ["Tape"]


class Tape:
    """Blocks one after the other: written at the end, read anywhere, cut off at the end, forgotten at the start."""

    def __init__(self, n_channels: int, *, frame: int) -> None:
        self._n_channels = n_channels
        self._blocks: deque[tuple[int, Array]] = deque()
        self.until = frame

    def append(self, block: Array) -> None:
        """Write (channels, n) at the end."""
        self._blocks.append((self.until, block))
        self.until += block.shape[1]

    def read(self, frame: int, n_frames: int) -> Array:
        """Return a fresh (channels, n_frames) from a frame on: silence where nothing is, or is no longer."""
        out: Array | None = None
        for start, block in reversed(self._blocks):
            end = start + block.shape[1]
            if frame >= start and frame + n_frames <= end and out is None:
                return block[:, frame - start : frame - start + n_frames].copy()
            if out is None:
                out = np.zeros((self._n_channels, n_frames))
            first, last = max(start, frame), min(end, frame + n_frames)
            if first < last:
                out[:, first - frame : last - frame] = block[:, first - start : last - start]
            if start <= frame:
                break
        return np.zeros((self._n_channels, n_frames)) if out is None else out

    def cut(self, frame: int) -> None:
        """Take back what was written from a frame on."""
        while self._blocks and self._blocks[-1][0] >= frame:
            self._blocks.pop()
        if self._blocks:
            start, block = self._blocks[-1]
            self._blocks[-1] = (start, block[:, : frame - start])
        self.until = min(self.until, frame)

    def forget_before(self, frame: int) -> None:
        """Let go of blocks that end before a frame."""
        while self._blocks and self._blocks[0][0] + self._blocks[0][1].shape[1] <= frame:
            self._blocks.popleft()
