"""Marks of the user: pins, places that are no faults, remarks, sections of the song."""

from typing import Literal, Self

from pydantic import Field, model_validator

from mivlo.core.model.base import Frozen, Name, Words

__all__ = ["Dismissed", "Judged", "Pin", "Remark", "Section"]


class Pin(Frozen):
    """A mark dropped during a probe, to be judged afterwards."""

    id: str = Field(max_length=64)
    hz: float = Field(ge=20.0, le=20_000.0)
    width_octaves: float = Field(default=0.25, ge=0.02, le=3.0)
    excess_db: float | None = None


class Dismissed(Frozen):
    """A place of which the user said that it is not a fault."""

    hz: float = Field(ge=20.0, le=20_000.0)
    wide: bool = False


class Remark(Frozen):
    """What somebody says who listens, at a time of a track, and where it is about a frequency, there."""

    id: str = Field(max_length=64)
    text: Words = Field(min_length=1, max_length=500)
    author: Name = Field(default="", max_length=60)  # as they call themselves; empty: the engineer
    at_s: float = Field(ge=0.0, le=1e6)  # of the session
    hz: float | None = Field(default=None, ge=20.0, le=20_000.0)


class Judged(Frozen):
    """A row of the round that was judged and needs no move: it is as it should be, or is left for later."""

    row_id: str = Field(min_length=1, max_length=200)
    verdict: Literal["fine", "later"]


class Section(Frozen):
    """A passage of the song with a name; frames of the session."""

    id: str = Field(max_length=64)
    name: Name = Field(min_length=1, max_length=60)
    start_frame: int = Field(ge=0, le=2**40)
    end_frame: int = Field(ge=0, le=2**40)

    @model_validator(mode="after")
    def _ends_after_it_starts(self) -> Self:
        if self.end_frame <= self.start_frame:
            raise ValueError(
                f"section {self.name} must end (frame {self.end_frame}) after it starts (frame {self.start_frame})"
            )
        return self
