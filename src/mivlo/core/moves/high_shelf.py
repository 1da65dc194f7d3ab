"""High shelf: lifts or lowers everything above a frequency."""

from typing import ClassVar, Literal

from pydantic import Field

from mivlo.core.filters import analog, matched
from mivlo.core.filters.analog import AnalogSection
from mivlo.core.filters.biquad import Biquad
from mivlo.core.moves.base import GainDb, Q, StaticMove, WidthAsOctaves

__all__ = ["HighShelf"]


class HighShelf(WidthAsOctaves, StaticMove):
    """Half the gain in dB at hz, the full gain well above."""

    label: ClassVar[str] = "High shelf"
    summary: ClassVar[str] = "Lifts or lowers everything above a frequency."
    scaled: ClassVar[tuple[str, ...]] = ("gain_db",)
    kind: Literal["high-shelf"] = "high-shelf"
    gain_db: GainDb = Field(default=-3.0)
    q: Q = Field(default=0.7071)

    def analog_sections(self) -> tuple[AnalogSection, ...]:
        return (analog.high_shelf(self.hz, self.gain_db, self.q),)

    def design(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return matched.high_shelf(self.hz, self.gain_db, self.q, sample_rate_hz=sample_rate_hz)

    def slice_sections(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return matched.cut_sections(self.hz, 4, 0.7071, high_pass=True, sample_rate_hz=sample_rate_hz)
