"""Plane: shaves what stands proud of the sound's own outline, moment by moment."""

from itertools import pairwise
from typing import Annotated, ClassVar, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from mivlo.core.filters.biquad import Biquad
from mivlo.core.filters.matched import cut_sections
from mivlo.core.moves.base import BaseMove, Family, Hz, Keepers, Start
from mivlo.core.moves.capabilities import Placed, Sliced
from mivlo.core.processors.plane import PlaneFigures, PlaneSpec

__all__ = ["MOST_PLACES", "LearnedPlace", "Plane"]

MOST_PLACES = 240
LearnedPlace = tuple[Annotated[float, Field(ge=20.0, le=20_000.0)], Annotated[float, Field(ge=0.0, le=24.0)]]


class Plane(BaseMove, Placed, Sliced):
    """Adaptive; linked over both channels; regions that the user marked as keepers are left alone."""

    label: ClassVar[str] = "Plane"
    summary: ClassVar[str] = "Shaves what stands proud of the sound's own outline, moment by moment, wherever it moves."
    family: ClassVar[Family] = "adaptive"
    scaled: ClassVar[tuple[str, ...]] = ("amount",)
    starts: ClassVar[tuple[Start, ...]] = (
        Start("harsh voice", "edges of a voice that hurt", {
            "amount": 100.0, "narrowness": 75.0, "speed_ms": 25.0, "low_hz": 1_000.0, "high_hz": 10_000.0,
            "spare_notes": 70.0,
        }),
        Start("brittle guitar", "pick and strings that are glassy", {
            "amount": 100.0, "narrowness": 85.0, "speed_ms": 25.0, "low_hz": 1_200.0, "high_hz": 9_000.0,
            "spare_notes": 90.0,
        }),
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
    spare_notes: float = Field(
        default=100.0, ge=0.0, le=100.0, title="Spare notes", json_schema_extra={"unit": "%"},
        description="how far plain lines are protected where nothing was learned; at 0 all that stands proud is shaved",
    )  # fmt: skip
    places: tuple[LearnedPlace, ...] = Field(
        default=(), max_length=MOST_PLACES, title="Places", json_schema_extra={"control": "places"},
        description="Hz and dB, rising: what each place adds to what passes it, in straight lines over log Hz",
    )  # fmt: skip

    @model_validator(mode="after")
    def _low_is_below_high(self) -> Self:
        if self.high_hz < 1.25 * self.low_hz:
            raise ValueError(f"high_hz={self.high_hz:g} must be at least 1.25 times low_hz={self.low_hz:g}")
        return self

    loud_places: tuple[LearnedPlace, ...] = Field(
        default=(), max_length=MOST_PLACES, title="Loud places", json_schema_extra={"control": "places"},
        description="as the places, for what is there only while the sound is loud",
    )  # fmt: skip
    loud_from_db: float = Field(
        default=-24.0, ge=-90.0, le=0.0, title="Loud from", json_schema_extra={"unit": "dB", "group": "more"},
        description="the level from which on the loud places are cut",
    )  # fmt: skip

    @model_validator(mode="after")
    def _places_rise(self) -> Self:
        for places in (self.places, self.loud_places):
            wrong = next((b for (a, _), (b, _) in pairwise(places) if b <= a), None)
            if wrong is not None:
                raise ValueError(f"places must rise in Hz: {wrong:g} stands behind a place that is not lower")
        return self

    @property
    def place_hz(self) -> float:
        return float(np.sqrt(self.low_hz * self.high_hz))

    def slice_sections(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        top_hz = min(self.high_hz, 0.45 * sample_rate_hz)
        low = cut_sections(self.low_hz, 4, 0.7071, high_pass=True, sample_rate_hz=sample_rate_hz)
        return (*low, *cut_sections(top_hz, 4, 0.7071, high_pass=False, sample_rate_hz=sample_rate_hz))

    def stage(
        self, key: str, *, on: bool, keepers: Keepers, sample_rate_hz: float, share: float = 1.0
    ) -> PlaneSpec:  # fmt: skip
        self.check_rate(sample_rate_hz)
        figures = PlaneFigures(
            amount=self.amount / 100.0, narrowness=self.narrowness / 100.0, low_hz=self.low_hz, high_hz=self.high_hz,
            speed_ms=self.speed_ms, on=on, channel=self.channel, keepers=keepers,
            places=self.places, loud_places=self.loud_places, loud_from_db=self.loud_from_db,
            spare=self.spare_notes / 100.0,
        )  # fmt: skip
        return PlaneSpec(key, figures, sample_rate_hz)
