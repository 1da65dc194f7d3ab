"""Warmth: harmonics of what lies low, for tracks that cuts have left thin."""

from typing import ClassVar, Literal

from pydantic import Field

from mivlo.core.moves.base import Start
from mivlo.core.moves.harmonics import HarmonicsMove
from mivlo.core.processors.harmonics import Side

__all__ = ["Warmth"]


class Warmth(HarmonicsMove):
    """Of the band below `hz`."""

    label: ClassVar[str] = "Warmth"
    summary: ClassVar[str] = "Adds overtones of the lows, so that they are heard again also where they were cut."
    side: ClassVar[Side] = "below"
    starts: ClassVar[tuple[Start, ...]] = (
        Start("a little", "hardly to be heard by itself", {"hz": 200.0, "amount_db": -24.0}),
        Start("full", "a voice or guitar that became thin", {"hz": 250.0, "amount_db": -14.0}),
    )

    kind: Literal["warmth"] = "warmth"
    hz: float = Field(
        default=200.0, ge=40.0, le=500.0, title="Of what is below", json_schema_extra={"unit": "Hz", "means": "place"}
    )

    @property
    def edge_hz(self) -> float:
        return self.hz
