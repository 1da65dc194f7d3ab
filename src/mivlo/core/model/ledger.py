"""What a ledger consists of: moves with their reason and evidence, and what is to be kept."""

from collections.abc import Iterable
from typing import Literal, Self, get_args

from pydantic import Field, model_validator

from mivlo.core.model.base import Frozen, Name, refuse_twins
from mivlo.core.moves import Move
from mivlo.core.moves.capabilities import Listens

__all__ = [
    "TREATMENTS",
    "Behaviour",
    "ClashReason",
    "Evidence",
    "Keeper",
    "LedgerEntry",
    "LedgerState",
    "Phase",
    "Region",
    "Treatment",
    "TreatmentName",
    "keys_of",
]

Phase = Literal["minimum", "linear"]
Behaviour = Literal[
    "steady", "when-loud", "burst"
]  # of a fault: always there, only when the track is loud, or in bursts
Treatment = Literal["A", "B", "C", "D"]  # a ledger is addressed by treatment and strip
TREATMENTS: tuple[Treatment, ...] = get_args(Treatment)


class Evidence(Frozen):
    """What a move answers: a suspect as it was measured, so that it can be measured again."""

    kind: str = Field(max_length=40)
    hz: float = Field(ge=20.0, le=20_000.0)
    q: float = Field(ge=0.1, le=100.0)
    excess_db: float = Field(ge=-200.0, le=200.0)
    ring_s: float | None = Field(default=None, ge=0.0, le=1e4)
    start_s: float = Field(ge=0.0, le=1e6)
    end_s: float = Field(ge=0.0, le=1e6)
    times: tuple[tuple[float, float], ...] = Field(default=(), max_length=200)
    behaviour: Behaviour = "steady"


class Region(Frozen):
    """A part of the frequency axis."""

    low_hz: float = Field(ge=20.0, le=20_000.0)
    high_hz: float = Field(ge=20.0, le=20_000.0)

    @model_validator(mode="after")
    def _upwards(self) -> Self:
        if self.high_hz <= self.low_hz:
            raise ValueError(f"high_hz={self.high_hz:g} must be above low_hz={self.low_hz:g}")
        return self


class ClashReason(Region):
    """The clash that a move answers: who goes first, who is hidden, and where; so that it can be measured again."""

    front: str = Field(max_length=64)
    hidden: str = Field(max_length=64)


class LedgerEntry(Frozen):
    """One move of a ledger; `id` says which move it stays while its figures change."""

    id: str = Field(max_length=64)
    move: Move
    reason: Name = Field(default="", max_length=500)
    evidence: Evidence | None = None
    clash: ClashReason | None = None


class LedgerState(Frozen):
    """A ledger as a whole, and how it is played: what a treatment holds of a strip."""

    ledger_on: bool = True
    ledger: tuple[LedgerEntry, ...] = Field(default=(), max_length=200)
    phase: Phase = "minimum"
    amount: float = Field(default=100.0, ge=0.0, le=150.0)  # per cent: all moves nearer to nothing, or further

    @model_validator(mode="after")
    def _entries_differ(self) -> Self:
        refuse_twins((entry.id for entry in self.ledger), "the entries of a ledger")
        return self


class TreatmentName(Frozen):
    """A treatment that is there, and what it is called."""

    letter: Treatment
    name: Name = Field(default="", max_length=60)


def keys_of(ledger: Iterable[LedgerEntry]) -> frozenset[str]:
    """Return the ids of all that the moves of a ledger listen to but itself; raises nothing. Source: ours."""
    moves = (entry.move for entry in ledger)
    return frozenset(move.heard_id for move in moves if isinstance(move, Listens) and move.heard_id)


class Keeper(Region):
    """A region that the user marked as needed: nothing adaptive touches it."""
