"""Note family: a note held with its octaves or its overtones; mains hum is one."""

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field, JsonValue

from mivlo.core.filters import analog, matched
from mivlo.core.filters.analog import AnalogSection
from mivlo.core.filters.biquad import Biquad
from mivlo.core.moves.base import NYQUIST_GUARD, GainDb, Start, StaticMove, slice_bell
from mivlo.core.units import octaves_to_q

__all__ = ["NoteFamily"]

MOST_MEMBERS = 24
HIGHEST_HZ = 20_000.0
HUM: dict[str, JsonValue] = {
    "members": "overtones", "count": 12, "gain_db": -24.0, "width_cents": 40.0, "stretch": 0.0, "left_out": [],
}  # fmt: skip


class NoteFamily(StaticMove):
    """One bell at each member that is not left out; members above 20 kHz, or too near half the rate, are not there."""

    label: ClassVar[str] = "Note family"
    summary: ClassVar[str] = "A note with its octaves or its overtones, one depth for all; each can be left out."
    scaled: ClassVar[tuple[str, ...]] = ("gain_db",)
    starts: ClassVar[tuple[Start, ...]] = (
        Start("mains hum 50 Hz", "50 Hz and its multiples, very narrow", HUM | {"hz": 50.0}),
        Start("mains hum 60 Hz", "60 Hz and its multiples, very narrow", HUM | {"hz": 60.0}),
        Start("a note's overtones", "the note under the move, with its first eight partials", {
            "members": "overtones", "count": 8, "gain_db": -6.0, "width_cents": 100.0,
        }),
        Start("a note in all octaves", "the note under the move, wherever it is played", {
            "members": "octaves", "count": 6, "gain_db": -4.0, "width_cents": 100.0, "stretch": 0.0,
        }),
    )  # fmt: skip

    kind: Literal["note-family"] = "note-family"
    members: Literal["overtones", "octaves"] = Field(default="overtones", title="Made of")
    count: int = Field(default=8, ge=1, le=MOST_MEMBERS, title="How many", json_schema_extra={"unit": ""})
    gain_db: GainDb = Field(default=-6.0)
    width_cents: float = Field(default=100.0, ge=5.0, le=1_200.0, title="Width", json_schema_extra={"unit": "ct"})
    stretch: float = Field(
        default=0.0, ge=0.0, le=0.005, title="Stretch", json_schema_extra={"unit": "B", "group": "more"},
        description="inharmonicity B of stiff strings: member n lies at n·hz·sqrt((1 + B·n²)/(1 + B))",
    )  # fmt: skip
    left_out: tuple[Annotated[int, Field(ge=1, le=MOST_MEMBERS)], ...] = Field(
        default=(), max_length=MOST_MEMBERS, title="Left out", json_schema_extra={"control": "members"}
    )

    def member_hz(self) -> list[float]:
        """Return the frequency of every member that acts.

        Source: stiff string f_n = n·f0·sqrt(1 + B·n²) (H. Fletcher, T. Rossing, The Physics of Musical Instruments),
        taken so that the first member lies at hz.
        """
        numbers = [n for n in range(1, self.count + 1) if n not in self.left_out]
        if self.members == "octaves":
            hz = [self.hz * 2.0 ** (n - 1) for n in numbers]
        else:
            hz = [n * self.hz * float(np.sqrt((1.0 + self.stretch * n * n) / (1.0 + self.stretch))) for n in numbers]
        return [one for one in hz if one <= HIGHEST_HZ]

    def _q(self) -> float:
        return octaves_to_q(self.width_cents / 1_200.0)

    def analog_sections(self) -> tuple[AnalogSection, ...]:
        return tuple(analog.bell(hz, self.gain_db, self._q()) for hz in self.member_hz())

    def design(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return tuple(
            section
            for hz in self._fitting(sample_rate_hz)
            for section in matched.bell(hz, self.gain_db, self._q(), sample_rate_hz=sample_rate_hz)
        )

    def _fitting(self, sample_rate_hz: float) -> list[float]:
        return [hz for hz in self.member_hz() if hz <= NYQUIST_GUARD * sample_rate_hz / 2.0]

    def slice_sections(self, sample_rate_hz: float) -> tuple[Biquad, ...]:
        return slice_bell(self.hz, self._q(), sample_rate_hz)
