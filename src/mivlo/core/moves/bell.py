"""Bell: lifts or dips a band around a frequency."""

from typing import ClassVar, Literal

from pydantic import Field

from mivlo.core.filters import analog, matched
from mivlo.core.filters.analog import AnalogSection
from mivlo.core.filters.biquad import Biquad
from mivlo.core.moves.base import GainDb, Q, StaticMove, WidthAsOctaves, slice_bell

__all__ = ["Bell"]


class Bell(WidthAsOctaves, StaticMove):
    """Width is measured at half the gain in dB."""

    label: ClassVar[str] = "Bell"
    summary: ClassVar[str] = "Lifts or dips one band."
    scaled: ClassVar[tuple[str, ...]] = ("gain_db",)
    kind: Literal["bell"] = "bell"
    gain_db: GainDb = Field(default=-4.0)
    q: Q = Field(default=5.76)

    def analog_sections(self) -> tuple[AnalogSection, ...]:
        return (analog.bell(self.hz, self.gain_db, self.q),)

    def design(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return matched.bell(self.hz, self.gain_db, self.q, sample_rate_hz=sample_rate_hz)

    def slice_sections(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return slice_bell(self.hz, self.q, sample_rate_hz)
