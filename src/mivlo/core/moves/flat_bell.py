"""Flat bell: lifts or dips a whole band evenly, with steep sides."""

from typing import ClassVar, Literal

from pydantic import Field

from mivlo.core.filters import analog, matched
from mivlo.core.filters.analog import AnalogSection
from mivlo.core.filters.biquad import Biquad
from mivlo.core.moves.base import GainDb, Q, StaticMove, WidthAsOctaves, slice_bell

__all__ = ["FlatBell"]


class FlatBell(WidthAsOctaves, StaticMove):
    """Width is measured at half the gain in dB, as a bell's."""

    label: ClassVar[str] = "Flat bell"
    summary: ClassVar[str] = (
        "Lifts or dips a whole band evenly and leaves alone what lies beside it: steep at its sides."
    )
    scaled: ClassVar[tuple[str, ...]] = ("gain_db",)
    kind: Literal["flat-bell"] = "flat-bell"
    gain_db: GainDb = Field(default=-4.0)
    q: Q = Field(default=1.41, le=30.0)

    def analog_sections(self) -> tuple[AnalogSection, ...]:
        return analog.flat_bell(self.hz, self.gain_db, self.q)

    def design(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return matched.flat_bell(self.hz, self.gain_db, self.q, sample_rate_hz=sample_rate_hz)

    def slice_sections(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return slice_bell(self.hz, self.q, sample_rate_hz)
