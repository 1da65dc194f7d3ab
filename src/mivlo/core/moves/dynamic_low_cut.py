"""Dynamic low cut: a low cut that is open, and slides up only while the lows are loud."""

from typing import ClassVar, Literal

from pydantic import Field

from mivlo.core.filters.biquad import Biquad
from mivlo.core.filters.matched import plain_cut
from mivlo.core.moves.base import Start
from mivlo.core.moves.dynamic import DynamicMove, level_db

__all__ = ["DynamicLowCut"]


class DynamicLowCut(DynamicMove):
    """A Butterworth low cut whose corner slides: an octave below hz it takes away as much as the gain says."""

    label: ClassVar[str] = "Dynamic low cut"
    says: ClassVar[str] = "A low cut that is open, and slides up only while the lows are loud or burst."
    starts: ClassVar[tuple[Start, ...]] = (
        Start("plosive", "p and b: bursts only, sung low notes stay", {
            "hz": 150.0, "slope_db_per_octave": 24, "depth_db": -18.0, "threshold_db": -30.0, "ratio": 20.0, "knee_db": 2.0,
            "attack_ms": 3.0, "release_ms": 60.0, "lookahead_ms": 36.0, "trigger": "sudden", "detection": "peak",
        }),
        Start("when loud", "clears lows that swell in the loud moments", {
            "depth_db": -12.0, "ratio": 6.0, "knee_db": 6.0, "attack_ms": 20.0, "release_ms": 250.0, "lookahead_ms": 5.0,
            "trigger": "above", "detection": "rms",
        }),
    )  # fmt: skip

    kind: Literal["dynamic-low-cut"] = "dynamic-low-cut"
    slope_db_per_octave: Literal[12, 24, 36] = Field(default=24, title="Slope", json_schema_extra={"unit": "dB/octave"})
    depth_db: float = level_db("Depth", -36.0, -1.0, default=-18.0)
    rest_db: float = level_db("Resting gain", -24.0, 0.0, default=0.0, group="more")

    @property
    def band_low_hz(self) -> float:
        return max(self.hz / 2.0, 30.0)

    def sections_at(self, gain_db: float, sample_rate_hz: float) -> tuple[Biquad, ...]:
        order = self.slope_db_per_octave // 6
        # |H|² of a Butterworth high-pass is 1/(1 + (corner/f)^(2·order)); solved for the corner at f = hz/2.
        corner_hz = self.hz / 2.0 * (10.0 ** (-gain_db / 10.0) - 1.0) ** (0.5 / order)
        corner_hz = min(corner_hz, 0.4 * sample_rate_hz)
        return plain_cut(corner_hz, order, high_pass=True, sample_rate_hz=sample_rate_hz)

    def own_band(self, sample_rate_hz: float) -> tuple[Biquad, Biquad]:
        first, second = plain_cut(self.hz, 4, high_pass=False, sample_rate_hz=sample_rate_hz)
        return first, second
