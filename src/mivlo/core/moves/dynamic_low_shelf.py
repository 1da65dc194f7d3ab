"""Dynamic low shelf: everything below a frequency goes down (or up) only while it is loud there."""

from typing import ClassVar, Literal

from pydantic import Field

from mivlo.core.filters import analog
from mivlo.core.filters.biquad import Biquad
from mivlo.core.filters.matched import plain_cut, plain_shelf
from mivlo.core.moves.base import Q, Start, WidthAsOctaves
from mivlo.core.moves.dynamic import DynamicMove

__all__ = ["DynamicLowShelf"]


class DynamicLowShelf(WidthAsOctaves, DynamicMove):
    """Its shape at each gain is that of a low shelf (one bilinear section)."""

    label: ClassVar[str] = "Dynamic low shelf"
    summary: ClassVar[str] = "Lowers everything below a frequency only while it is loud there."
    starts: ClassVar[tuple[Start, ...]] = (
        Start(
            "when loud",
            "tightens lows that bloom in the loud moments",
            {
                "hz": 200.0,
                "depth_db": -5.0,
                "ratio": 4.0,
                "knee_db": 6.0,
                "attack_ms": 20.0,
                "release_ms": 200.0,
                "lookahead_ms": 5.0,
                "trigger": "above",
                "detection": "rms",
            },
        ),
        Start(
            "give way to",
            "makes room below while another track sounds: choose it under Listens to",
            {
                "depth_db": -3.0,
                "ratio": 3.0,
                "knee_db": 10.0,
                "attack_ms": 25.0,
                "release_ms": 220.0,
                "lookahead_ms": 15.0,
                "trigger": "above",
                "detection": "rms",
            },
        ),
    )

    kind: Literal["dynamic-low-shelf"] = "dynamic-low-shelf"
    q: Q = Field(default=0.7071, ge=0.1, le=4.0)

    @property
    def band_low_hz(self) -> float:
        return max(self.hz / 2.0, 30.0)

    def sections_at(self, gain_db: float, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return (plain_shelf(analog.low_shelf(self.hz, gain_db, self.q), sample_rate_hz=sample_rate_hz),)

    def own_band(self, sample_rate_hz: float) -> tuple[Biquad, Biquad]:
        first, second = plain_cut(self.hz, 4, high_pass=False, sample_rate_hz=sample_rate_hz)
        return first, second
