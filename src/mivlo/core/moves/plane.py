"""Plane: shaves what stands proud of the sound's own outline, moment by moment."""

from typing import ClassVar, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from mivlo.core.filters.biquad import Biquad
from mivlo.core.filters.matched import cut_sections
from mivlo.core.moves.base import BaseMove, Family, Hz, Keepers, Start
from mivlo.core.moves.capabilities import Placed, Sliced
from mivlo.core.processors.plane import PlaneFigures, PlaneSpec

__all__ = ["Plane"]


class Plane(BaseMove, Placed, Sliced):
    """Adaptive; linked over both channels; regions that the user marked as keepers are left alone."""

    label: ClassVar[str] = "Plane"
    says: ClassVar[str] = "Shaves what stands proud of the sound's own outline, moment by moment, wherever it moves."
    family: ClassVar[Family] = "adaptive"
    starts: ClassVar[tuple[Start, ...]] = (
        Start("gentle", "many small moving faults", {"amount": 60.0, "narrowness": 80.0, "speed_ms": 30.0}),
        Start("whistles", "narrow lines that come and go", {
            "amount": 100.0, "narrowness": 95.0, "speed_ms": 20.0, "low_hz": 1_200.0, "high_hz": 8_000.0,
        }),
        Start("fizz", "a haze on distorted sources", {
            "amount": 80.0, "narrowness": 60.0, "speed_ms": 40.0, "low_hz": 2_500.0, "high_hz": 12_000.0,
        }),
    )  # fmt: skip

    kind: Literal["plane"] = "plane"
    amount: float = Field(
        default=100.0, ge=0.0, le=100.0, title="Amount", json_schema_extra={"unit": "%", "means": "amount"}
    )
    narrowness: float = Field(
        default=90.0, ge=0.0, le=100.0, title="Narrowness", json_schema_extra={"unit": "%"},
        description="how narrow a thing it looks for: 0 half an octave, 100 a sixteenth of one",
    )  # fmt: skip
    low_hz: Hz = Field(default=600.0, title="From", json_schema_extra={"unit": "Hz", "means": "low edge"})
    high_hz: Hz = Field(default=10_000.0, title="To", json_schema_extra={"unit": "Hz", "means": "high edge"})
    speed_ms: float = Field(default=25.0, ge=5.0, le=300.0, title="Speed", json_schema_extra={"unit": "ms"})

    @model_validator(mode="after")
    def _low_is_below_high(self) -> Self:
        if self.high_hz < 1.25 * self.low_hz:
            raise ValueError(f"high_hz={self.high_hz:g} must be at least 1.25 times low_hz={self.low_hz:g}")
        return self

    @property
    def place_hz(self) -> float:
        return float(np.sqrt(self.low_hz * self.high_hz))

    def slice_sections(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        top_hz = min(self.high_hz, 0.45 * sample_rate_hz)
        low = cut_sections(self.low_hz, 4, 0.7071, high_pass=True, sample_rate_hz=sample_rate_hz)
        return (*low, *cut_sections(top_hz, 4, 0.7071, high_pass=False, sample_rate_hz=sample_rate_hz))

    def stage(self, key: str, *, on: bool, keepers: Keepers, sample_rate_hz: float) -> PlaneSpec:
        self.check_rate(sample_rate_hz)
        figures = PlaneFigures(
            amount=self.amount / 100.0, narrowness=self.narrowness / 100.0, low_hz=self.low_hz, high_hz=self.high_hz,
            speed_ms=self.speed_ms, on=on, channel=self.channel, keepers=keepers,
        )  # fmt: skip
        return PlaneSpec(key, figures, sample_rate_hz)
