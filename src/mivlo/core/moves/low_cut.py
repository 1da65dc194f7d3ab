"""Low cut: takes away what lies below a frequency."""

from typing import ClassVar, Literal

from mivlo.core.filters.analog import AnalogSection, butterworth
from mivlo.core.filters.biquad import Biquad
from mivlo.core.filters.matched import cut_sections
from mivlo.core.moves.cut import Cut

__all__ = ["LowCut"]


class LowCut(Cut):
    """A Butterworth high-pass of order slope/6; -3.01 dB at hz where q is 0.7071."""

    label: ClassVar[str] = "Low cut"
    summary: ClassVar[str] = "Takes away what lies below a frequency."
    kind: Literal["low-cut"] = "low-cut"

    def analog_sections(self) -> tuple[AnalogSection, ...]:
        return butterworth(self.hz, self.order, high_pass=True, q=self.q)

    def design(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return cut_sections(self.hz, self.order, self.q, high_pass=True, sample_rate_hz=sample_rate_hz)

    def slice_sections(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return cut_sections(self.hz, 4, 0.7071, high_pass=False, sample_rate_hz=sample_rate_hz)
