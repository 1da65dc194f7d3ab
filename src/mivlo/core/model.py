"""What travels between the parts of the core."""

from dataclasses import dataclass

from mivlo.core.units import Array

__all__ = ["Audio", "FrameRange"]


@dataclass(frozen=True, slots=True)
class Audio:
    """Sound: samples (channels, frames) float64 at a rate; full scale is 1."""

    samples: Array
    sample_rate_hz: int


@dataclass(frozen=True, slots=True)
class FrameRange:
    """A stretch of frames, end excluded."""

    start: int
    end: int
