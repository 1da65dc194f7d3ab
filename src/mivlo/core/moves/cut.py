"""What low cut and high cut share: slope and sharpness."""

from typing import ClassVar, Literal, Self

from pydantic import Field, model_validator

from mivlo.core.moves.base import Q, StaticMove, WidthAsOctaves

__all__ = ["BUTTERWORTH_Q", "Cut", "Slope"]

BUTTERWORTH_Q = 0.7071
Slope = Literal[6, 12, 18, 24, 36, 48]


class Cut(WidthAsOctaves, StaticMove):
    """A cut of a slope; q multiplies the Q of its sharpest section by q/0.7071."""

    clears_away: ClassVar[bool] = True
    slope_db_per_octave: Slope = Field(
        default=24, title="Slope", json_schema_extra={"unit": "dB/octave", "means": "slope"}
    )
    q: Q = Field(
        default=BUTTERWORTH_Q, json_schema_extra={"unit": "Q", "means": "sharpness", "when": "slope_db_per_octave!=6"}
    )

    @model_validator(mode="after")
    def _no_q_at_first_order(self) -> Self:
        if self.slope_db_per_octave == 6 and abs(self.q - BUTTERWORTH_Q) > 1e-9:
            raise ValueError(f"q={self.q:g} must be left out (or {BUTTERWORTH_Q}) at 6 dB/octave: no section has a Q")
        return self

    @property
    def order(self) -> int:
        """Return the order of the Butterworth filter."""
        return self.slope_db_per_octave // 6
