"""Notch: takes one frequency out entirely."""

from typing import ClassVar, Literal

from pydantic import Field

from mivlo.core.filters import analog, matched
from mivlo.core.filters.analog import AnalogSection
from mivlo.core.filters.biquad import Biquad
from mivlo.core.moves.base import Q, StaticMove, WidthAsOctaves, slice_bell

__all__ = ["Notch"]


class Notch(WidthAsOctaves, StaticMove):
    """Q = hz / (-3 dB width)."""

    label: ClassVar[str] = "Notch"
    summary: ClassVar[str] = "Takes one frequency out entirely."
    kind: Literal["notch"] = "notch"
    q: Q = Field(default=20.0)

    def analog_sections(self) -> tuple[AnalogSection, ...]:
        return (analog.notch(self.hz, self.q),)

    def design(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return matched.notch(self.hz, self.q, sample_rate_hz=sample_rate_hz)

    def slice_sections(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return slice_bell(self.hz, self.q, sample_rate_hz)
