"""Air: harmonics of what lies high, for tracks that cuts have left dull."""

from typing import ClassVar, Literal

from pydantic import Field

from mivlo.core.moves.base import Start
from mivlo.core.moves.harmonics import HarmonicsMove
from mivlo.core.processors.harmonics import Side

__all__ = ["Air"]


class Air(HarmonicsMove):
    """Of the band above `hz`."""

    label: ClassVar[str] = "Air"
    summary: ClassVar[str] = "Adds overtones of the highs: brightness that was not there to be lifted."
    side: ClassVar[Side] = "above"
    starts: ClassVar[tuple[Start, ...]] = (
        Start("a little", "hardly to be heard by itself", {"hz": 4_000.0, "amount_db": -24.0}),
        Start("open", "a voice or guitar that became dull", {"hz": 3_500.0, "amount_db": -14.0}),
    )

    kind: Literal["air"] = "air"
    hz: float = Field(
        default=4_000.0, ge=2_000.0, le=7_000.0, title="Of what is above",
        json_schema_extra={"unit": "Hz", "means": "place"},
    )  # fmt: skip

    @property
    def edge_hz(self) -> float:
        return self.hz
