"""Dynamic high shelf: everything above a frequency goes down (or up) only while it is loud there."""

from typing import ClassVar, Literal

from pydantic import Field

from mivlo.core.filters import analog
from mivlo.core.filters.biquad import Biquad
from mivlo.core.filters.matched import plain_cut, plain_shelf
from mivlo.core.moves.base import Q, Start, WidthAsOctaves
from mivlo.core.moves.dynamic import DynamicMove

__all__ = ["DynamicHighShelf"]


class DynamicHighShelf(WidthAsOctaves, DynamicMove):
    """Its shape at each gain is that of a high shelf (one bilinear section)."""

    label: ClassVar[str] = "Dynamic high shelf"
    summary: ClassVar[str] = "Lowers everything above a frequency only while it is loud there."
    starts: ClassVar[tuple[Start, ...]] = (
        Start("when loud", "takes the edge off where it gets loud", {
            "hz": 3_500.0, "depth_db": -4.0, "ratio": 4.0, "knee_db": 6.0, "attack_ms": 5.0, "release_ms": 120.0,
            "lookahead_ms": 4.0, "trigger": "above", "detection": "rms",
        }),
        Start("sibilance", "s and sh: fast, everything above", {
            "hz": 5_500.0, "depth_db": -7.0, "ratio": 6.0, "knee_db": 4.0, "attack_ms": 1.5, "release_ms": 50.0,
            "lookahead_ms": 3.0, "trigger": "above", "detection": "rms",
        }),
    )  # fmt: skip

    kind: Literal["dynamic-high-shelf"] = "dynamic-high-shelf"
    q: Q = Field(default=0.7071, ge=0.1, le=4.0)

    @property
    def band_low_hz(self) -> float:
        return self.hz

    def sections_at(self, gain_db: float, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return (plain_shelf(analog.high_shelf(self.hz, gain_db, self.q), sample_rate_hz=sample_rate_hz),)

    def own_band(self, sample_rate_hz: float) -> tuple[Biquad, Biquad]:
        first, second = plain_cut(self.hz, 4, high_pass=True, sample_rate_hz=sample_rate_hz)
        return first, second
