"""Where a track's samples come from, and how a loop reads them."""

import os
import weakref
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

import numpy as np

from mivlo.core.kernels import CONTROL_FRAMES
from mivlo.core.processors.timed import Spans, weights_of
from mivlo.core.units import Array

__all__ = [
    "ArraySource",
    "Segment",
    "Source",
    "SpansSource",
    "StoredSource",
    "SumSource",
    "Transport",
    "blocks_of",
    "open_source",
    "read_looped",
]

BLOCK_FRAMES = 1 << 18  # read at once where a whole stretch is gone through
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


@dataclass(frozen=True, slots=True)
class SpansSource:
    """Stretches of the session as a signal of 0 and 1, so that a loop's edge is crossfaded in it as in the sound."""

    spans: Spans
    sample_rate_hz: float

    @property
    def n_channels(self) -> int:
        return 1

    @property
    def n_frames(self) -> int:
        return round(self.spans[-1][1] * self.sample_rate_hz) + 1

    def read(self, start: int, n_frames: int) -> Array:
        return weights_of(self.spans, start, n_frames, sample_rate_hz=self.sample_rate_hz)[None]


@dataclass(frozen=True, slots=True)
class SumSource:
    """Several sounds as one, each from a frame on; mono ones are in both channels of a stereo sum."""

    parts: tuple[tuple[Source, int], ...]

    @property
    def n_channels(self) -> int:
        return max(source.n_channels for source, _ in self.parts)

    @property
    def n_frames(self) -> int:
        return max(start + source.n_frames for source, start in self.parts)

    def read(self, start: int, n_frames: int) -> Array:
        out = np.zeros((self.n_channels, n_frames))
        for source, at in self.parts:
            out += source.read(start - at, n_frames)
        return out


class StoredSource:
    """A source over a file as `mivlo.core.audiofile.resample_to_store` writes it; holds nothing in memory."""

    def __init__(self, path: Path) -> None:
        with path.open("rb") as file:
            np.lib.format.read_magic(file)
            shape, _, dtype = np.lib.format.read_array_header_1_0(file)
            self._first_byte = file.tell()
        self._shape, self._dtype = shape, dtype
        self._descriptor = os.open(path, os.O_RDONLY)
        weakref.finalize(self, os.close, self._descriptor)

    @property
    def n_channels(self) -> int:
        return int(self._shape[0])

    @property
    def n_frames(self) -> int:
        return int(self._shape[1])

    def read(self, start: int, n_frames: int) -> Array:
        out = np.zeros((self.n_channels, n_frames))
        first, last = max(start, 0), min(start + n_frames, self.n_frames)
        if first < last:
            # Read at a place, not sought: several threads may read one file. A mapped file would count as memory in
            # use.
            size = self._dtype.itemsize
            for channel in range(self.n_channels):
                place = self._first_byte + (channel * self.n_frames + first) * size
                part = np.frombuffer(os.pread(self._descriptor, (last - first) * size, place), dtype=self._dtype)
                out[channel, first - start : first - start + len(part)] = part
        return out


def open_source(path: Path) -> StoredSource:
    """Open a session-rate file as written by `mivlo.core.audiofile.resample_to_store`."""
    return StoredSource(path)


def blocks_of(source: Source, start: int, end: int) -> Iterator[Array]:
    """Yield (channels, n) float64 blocks of a stretch, one after the other; raises nothing. Source: ours."""
    for at in range(start, end, BLOCK_FRAMES):
        yield source.read(at, min(BLOCK_FRAMES, end - at))


@dataclass(frozen=True, slots=True)
class Segment:
    """A stretch of the session without a wrap; `seam` counts its frames from the start of the loop's edge, or is
    None."""

    start: int
    n_frames: int
    seam: int | None
    loop_frames: int


class Transport:
    """Where in the session each frame of the stream is: straight on, and round where there is a loop."""

    def __init__(self, frame: int, position: int, loop: tuple[int, int] | None) -> None:
        self._frame, self._position = frame, position
        self.loop = loop

    def set_loop(self, loop: tuple[int, int] | None, *, frame: int) -> None:
        """Go on with another loop from a frame of the stream on."""
        self._frame, self._position, self.loop = frame, self.position_at(frame), loop

    def position_at(self, frame: int) -> int:
        """Return the session frame at a frame of the stream."""
        position = self._position + frame - self._frame
        loop = self._loop()
        return position if loop is None or position < loop[1] else loop[0] + (position - loop[1]) % (loop[1] - loop[0])

    def segments(self, frame: int, n_frames: int) -> Iterator[Segment]:
        """Yield the stretches that frames of the stream are made of."""
        loop = self._loop()
        while n_frames:
            position = self.position_at(frame)
            if loop is None:
                yield Segment(position, n_frames, None, 0)
                return
            seam_start = loop[1] - SEAM_FRAMES
            in_seam = position >= seam_start
            count = min(n_frames, (loop[1] if in_seam else seam_start) - position)
            yield Segment(position, count, position - seam_start if in_seam else None, loop[1] - loop[0])
            frame += count
            n_frames -= count

    def _loop(self) -> tuple[int, int] | None:
        """Return the loop, or None where it lies behind."""
        return self.loop if self.loop and self._position < self.loop[1] else None


def read_looped(source: Source, segment: Segment, offset: int) -> Array:
    """Read a segment from a source that starts at frame `offset`; the loop's edge fades into what leads up to its
    start."""
    x = source.read(segment.start - offset, segment.n_frames)
    if segment.seam is None:
        return x
    fade = _SEAM_IN[segment.seam : segment.seam + segment.n_frames]
    lead = source.read(segment.start - segment.loop_frames - offset, segment.n_frames)
    return np.asarray(x * (1.0 - fade) + lead * fade)
