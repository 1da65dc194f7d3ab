"""Tracks and groups; a field of theirs is declared here, and nowhere else."""

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from mivlo.core.model.base import Frozen, Name, refuse_twins
from mivlo.core.model.ledger import Keeper, LedgerEntry, LedgerState, Treatment
from mivlo.core.model.marks import Dismissed, Pin, Remark
from mivlo.core.roles import Role

__all__ = ["SHARED_BY_TWINS", "Group", "LaterVersion", "Send", "SendLevel", "Strip", "StripBase", "Track"]

SendLevel = Annotated[float, Field(ge=-60.0, le=24.0)]

SHARED_BY_TWINS = (*LedgerState.model_fields, "variants", "keepers")


class Send(Frozen):
    """A copy of what leaves a strip's fader, into a group beside its own."""

    to_id: str = Field(max_length=64)
    level_db: SendLevel = 0.0


class StripBase(LedgerState):
    """What tracks, groups and the mix have alike: a ledger, how it is played, where its sound goes, the user's marks.

    The mix itself goes nowhere further.
    """

    id: str = Field(max_length=64)
    name: Name = Field(default="Strip", min_length=1, max_length=120)
    gain_db: float = Field(default=0.0, ge=-60.0, le=24.0)
    solo: bool = False
    mute: bool = False
    variants: dict[Treatment, LedgerState] = {}  # what the other treatments hold of it
    keepers: tuple[Keeper, ...] = Field(default=(), max_length=100)
    pins: tuple[Pin, ...] = Field(default=(), max_length=500)
    dismissed: tuple[Dismissed, ...] = Field(default=(), max_length=500)
    remarks: tuple[Remark, ...] = Field(default=(), max_length=500)
    group_id: str | None = Field(default=None, max_length=64)  # None: in the mix by itself
    sends: tuple[Send, ...] = Field(default=(), max_length=16)

    @model_validator(mode="after")
    def _sends_differ(self) -> Self:
        refuse_twins((send.to_id for send in self.sends), "the sends of a track or group")
        return self

    @property
    def treated(self) -> LedgerState:
        """Return what the treatment that is shown holds of it. Raises nothing. Source: ours."""
        return LedgerState.model_construct(**{name: getattr(self, name) for name in LedgerState.model_fields})

    def as_treated(self, was: Treatment, letter: Treatment) -> Self:
        """Return the same with another treatment's ledger in place of the one that is shown. Raises nothing.

        Source: ours.
        """
        others = {**self.variants, was: self.treated}
        state = others.pop(letter, LedgerState())
        fields = {name: getattr(state, name) for name in LedgerState.model_fields}
        return self.model_copy(update={**fields, "variants": others})

    @property
    def lasting_ledger(self) -> tuple[LedgerEntry, ...]:
        """Return the ledger without stand-ins: what is rendered and handed over. Raises nothing. Source: ours."""
        return tuple(entry for entry in self.ledger if not entry.move.stand_in)

    @property
    def acting_ledger(self) -> tuple[LedgerEntry, ...]:
        """Return the ledger as it acts at the strip's amount, stand-ins as they are. Raises nothing. Source: ours."""
        if self.amount == 100.0:
            return self.ledger
        amount = self.amount / 100.0
        return tuple(
            entry if entry.move.stand_in else entry.model_copy(update={"move": entry.move.at_amount(amount)})
            for entry in self.ledger
        )

    @property
    def acts(self) -> bool:
        """Tell whether its ledger does anything at all. Raises nothing. Source: ours."""
        return self.ledger_on and self.amount > 0.0

    def heard_part(self) -> Self:
        """Return the same without what nobody hears: equal sound is computed once. Raises nothing. Source: ours."""
        return self.model_copy(update={"name": "Strip", "pins": (), "dismissed": (), "remarks": (), "variants": {}})


class LaterVersion(Frozen):
    """A track as it came back from what was done to it later: a stand-in that is no guess."""

    audio_id: str = Field(max_length=64)
    start_frame: int = Field(ge=-(2**40), le=2**40)  # before the session's start: that much of the file is not heard
    louder_db: float = Field(default=0.0, ge=-200.0, le=200.0)
    holds_cuts: bool = False  # made of the track behind its moves, as it was handed over


class Track(StripBase):
    """One track; tracks with the same twin id share one ledger."""

    kind: Literal["track"] = "track"
    role: Role = "other"
    audio_id: str = Field(max_length=64)
    start_frame: int = Field(default=0, ge=-(2**40), le=2**40)
    pan: float = Field(default=0.0, ge=-1.0, le=1.0)
    polarity_flipped: bool = False
    twin_id: str | None = Field(default=None, max_length=64)
    later: LaterVersion | None = None

    @property
    def as_it_came_back(self) -> Self:
        """Return the track as it is under pressure: in place of its sound what came back, and no guesses beside that.

        Raises nothing. Source: ours.
        """
        if self.later is None:
            return self
        ledger = () if self.later.holds_cuts else self.lasting_ledger
        own = {"audio_id": self.later.audio_id, "start_frame": self.later.start_frame, "ledger": ledger}
        return self.model_copy(update={**own, "later": None})

    def heard_part(self) -> Self:
        """Return the same without what nobody hears. Raises nothing. Source: ours."""
        return super().heard_part().model_copy(update={"role": "other", "twin_id": None, "later": None})


class Group(StripBase):
    """Several tracks and groups treated as one, and what is sent there; the mix is the outermost."""

    kind: Literal["group"] = "group"
    stand_in: bool = False  # as a whole: what is sent here is heard in the pressure test only


Strip = Annotated[Track | Group, Field(discriminator="kind")]
