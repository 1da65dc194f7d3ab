"""High cut: takes away what lies above a frequency."""

from typing import ClassVar, Literal

from mivlo.core.filters.analog import AnalogSection, butterworth
from mivlo.core.filters.biquad import Biquad
from mivlo.core.filters.matched import cut_sections
from mivlo.core.moves.cut import Cut

__all__ = ["HighCut"]


class HighCut(Cut):
    """A Butterworth low-pass of order slope/6; -3.01 dB at hz where q is 0.7071."""

    label: ClassVar[str] = "High cut"
    summary: ClassVar[str] = "Takes away what lies above a frequency."
    kind: Literal["high-cut"] = "high-cut"

    def analog_sections(self) -> tuple[AnalogSection, ...]:
        return butterworth(self.hz, self.order, high_pass=False, q=self.q)

    def design(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return cut_sections(self.hz, self.order, self.q, high_pass=False, sample_rate_hz=sample_rate_hz)

    def slice_sections(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return cut_sections(self.hz, 4, 0.7071, high_pass=True, sample_rate_hz=sample_rate_hz)
