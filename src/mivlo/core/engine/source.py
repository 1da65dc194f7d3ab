"""Where a track's samples come from, and how a loop reads them."""

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

import numpy as np

from mivlo.core.kernels.svf_chain import CONTROL_FRAMES
from mivlo.core.units import Array

__all__ = ["ArraySource", "Segment", "Source", "Transport", "open_source", "read_looped"]

SEAM_FRAMES = 4 * CONTROL_FRAMES  # 5.3 ms at 48 kHz: the crossfade at a loop's edge
_SEAM_IN = 0.5 - 0.5 * np.cos(np.pi * (np.arange(SEAM_FRAMES) + 0.5) / SEAM_FRAMES)


class Source(Protocol):
    """Samples of one track at the session's rate."""

    @property
    def n_channels(self) -> int:
        """Return 1 or 2."""

    @property
    def n_frames(self) -> int:
        """Return the length."""

    def read(self, start: int, n_frames: int) -> Array:
        """Return a fresh (channels, n_frames) float64 block; silence outside the source."""


@dataclass(frozen=True, slots=True)
class ArraySource:
    """A source over an array in memory or on disk (memory-mapped), (channels, frames)."""

    samples: np.ndarray

    @property
    def n_channels(self) -> int:
        return int(self.samples.shape[0])

    @property
    def n_frames(self) -> int:
        return int(self.samples.shape[1])

    def read(self, start: int, n_frames: int) -> Array:
        out = np.zeros((self.n_channels, n_frames))
        first, last = max(start, 0), min(start + n_frames, self.n_frames)
        if first < last:
            out[:, first - start : last - start] = self.samples[:, first:last]
        return out


def open_source(path: Path) -> ArraySource:
    """Open a session-rate file as written by `mivlo.core.store`, memory-mapped."""
    return ArraySource(np.load(path, mmap_mode="r"))


@dataclass(frozen=True, slots=True)
class Segment:
    """A stretch of the session without a wrap; `seam` counts its frames from the start of the loop's edge, or is None."""

    start: int
    n_frames: int
    seam: int | None
    loop_frames: int


class Transport:
    """The play position: runs on, and wraps where there is a loop."""

    def __init__(self, position: int, loop: tuple[int, int] | None) -> None:
        self.position = position
        self.loop = loop

    def advance(self, n_frames: int) -> Iterator[Segment]:
        """Yield the stretches that the next frames are made of."""
        while n_frames:
            loop = self.loop if self.loop and self.position < self.loop[1] else None
            if loop is None:
                yield Segment(self.position, n_frames, None, 0)
                self.position += n_frames
                return
            seam_start = loop[1] - SEAM_FRAMES
            in_seam = self.position >= seam_start
            count = min(n_frames, (loop[1] if in_seam else seam_start) - self.position)
            yield Segment(self.position, count, self.position - seam_start if in_seam else None, loop[1] - loop[0])
            self.position += count
            n_frames -= count
            if self.position == loop[1]:
                self.position = loop[0]


def read_looped(source: Source, segment: Segment, offset: int) -> Array:
    """Read a segment from a source that starts at frame `offset`; the loop's edge fades into what leads up to its start."""
    x = source.read(segment.start - offset, segment.n_frames)
    if segment.seam is None:
        return x
    fade = _SEAM_IN[segment.seam : segment.seam + segment.n_frames]
    lead = source.read(segment.start - segment.loop_frames - offset, segment.n_frames)
    return np.asarray(x * (1.0 - fade) + lead * fade)
