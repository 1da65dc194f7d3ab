"""Dynamic bell: a band that dips (or lifts) only while something is loud there."""

from typing import ClassVar, Literal

from pydantic import Field

from mivlo.core.filters.biquad import Biquad
from mivlo.core.filters.matched import plain_bell
from mivlo.core.moves.base import Q, Start, WidthAsOctaves, slice_bell
from mivlo.core.moves.dynamic import DynamicMove

__all__ = ["DynamicBell"]

# What a narrow bell takes away is a band, which few frames tell the power of: what folds into it lies ten times as
# high or higher, where it is down by 26 dB and more.
NARROW_Q = 2.0
FAR_STRIDES = ((16, 192.0), (8, 96.0), (4, 48.0))  # frames apart, below what part of the rate


class DynamicBell(WidthAsOctaves, DynamicMove):
    """Its shape at each gain is that of a bell (one closed-form section)."""

    label: ClassVar[str] = "Dynamic bell"
    summary: ClassVar[str] = "Dips one band only while it is loud there, or while another track is."
    starts: ClassVar[tuple[Start, ...]] = (
        Start(
            "when loud",
            "cuts only in the loud moments",
            {
                "depth_db": -6.0,
                "ratio": 4.0,
                "knee_db": 6.0,
                "attack_ms": 8.0,
                "release_ms": 140.0,
                "lookahead_ms": 4.0,
                "trigger": "above",
                "detection": "rms",
            },
        ),
        Start(
            "sibilance",
            "s and sh: fast and broad",
            {
                "hz": 7_000.0,
                "q": 1.0,
                "depth_db": -7.0,
                "ratio": 6.0,
                "knee_db": 4.0,
                "attack_ms": 1.5,
                "release_ms": 50.0,
                "lookahead_ms": 3.0,
                "trigger": "above",
                "detection": "rms",
            },
        ),
        Start(
            "after the stroke",
            "lets each hit through and takes the ring between",
            {
                "depth_db": -12.0,
                "ratio": 20.0,
                "knee_db": 6.0,
                "attack_ms": 6.0,
                "release_ms": 200.0,
                "lookahead_ms": 20.0,
                "trigger": "after-stroke",
                "stroke_ms": 60.0,
                "detection": "peak",
            },
        ),
        Start(
            "give way to",
            "dips a little while another track sounds: choose it under Listens to",
            {
                "q": 0.8,
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

    kind: Literal["dynamic-bell"] = "dynamic-bell"
    q: Q = Field(default=3.0, ge=0.1, le=30.0)

    @property
    def band_low_hz(self) -> float:
        return self.hz

    def stride(self, sample_rate_hz: float) -> int:
        if self.detection == "rms" and self.q >= NARROW_Q:
            for stride, below in FAR_STRIDES:
                if self.hz < sample_rate_hz / below:
                    return stride
        return super().stride(sample_rate_hz)

    def sections_at(self, gain_db: float, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return (plain_bell(self.hz, gain_db, self.q, sample_rate_hz=sample_rate_hz),)

    def own_band(self, sample_rate_hz: float) -> tuple[Biquad, Biquad]:
        return slice_bell(self.hz, self.q, sample_rate_hz)
