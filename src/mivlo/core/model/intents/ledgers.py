"""Intents on ledgers, which are addressed by treatment and strip."""

from typing import TYPE_CHECKING, Literal, Self

from pydantic import Field, model_validator

from mivlo.core.errors import ConflictError
from mivlo.core.model.base import Frozen, partial_of
from mivlo.core.model.intents.base import OnTreatment, refuse_changed
from mivlo.core.model.ledger import Keeper, LedgerEntry, LedgerState
from mivlo.core.model.marks import Dismissed, Pin
from mivlo.core.model.session import Session
from mivlo.core.model.strips import StripBase
from mivlo.core.moves import Move
from mivlo.core.moves.words import change_text, named_move

__all__ = ["WIDE_BELOW_Q", "AddMove", "AnswerPin", "AnswerSuspect", "RemoveMove", "SetLedger", "SetMove"]

WIDE_BELOW_Q = 4.0  # a suspect below it is remembered as a wide place

if TYPE_CHECKING:

    class LedgerFields(Frozen):
        """Fields of a ledger as a whole."""

else:
    LedgerFields = partial_of(LedgerState, "LedgerFields", without={"ledger"})


class _OnLedger(OnTreatment):
    strip_id: str = Field(max_length=64)


class AddMove(_OnLedger):
    """Add a move at the end of a ledger (but before its stand-ins), at its head, or behind another move."""

    do: Literal["add-move"] = "add-move"
    entry: LedgerEntry
    place: Literal["end", "head"] = "end"
    after_id: str | None = Field(default=None, max_length=64)

    def applied(self, session: Session) -> Session:
        """Return the session with the move. Raises as `Intent.apply`. Source: ours."""

        def changed(strip: StripBase) -> dict[str, object]:
            if any(entry.id == self.entry.id for entry in strip.ledger):
                raise ConflictError(f"a move of the id {self.entry.id} is in the ledger of {strip.name} already")
            places = [index + 1 for index, entry in enumerate(strip.ledger) if entry.id == self.after_id]
            end = len(strip.ledger if self.entry.move.stand_in else strip.lasting_ledger)
            at = places[0] if places else 0 if self.place == "head" else end
            return {"ledger": (*strip.ledger[:at], self.entry, *strip.ledger[at:])}

        return session.with_strip(self.strip_id, changed)


class SetMove(_OnLedger):
    """Give a move other figures; `seen` is the move as it was when that was decided."""

    do: Literal["set-move"] = "set-move"
    entry_id: str = Field(max_length=64)
    move: Move
    seen: Move

    def applied(self, session: Session) -> Session:
        """Return the session with the move set. Raises as `Intent.apply`. Source: ours."""

        def changed(strip: StripBase) -> dict[str, object]:
            now = _entry(strip, self.entry_id)
            if now.move not in (self.seen, self.move):
                raise ConflictError(
                    f"{strip.name}: {change_text(now.move, self.move)} was not taken, since another page has changed "
                    "this move meanwhile; set it again if you want it"
                )
            moved = now.model_copy(update={"move": self.move})
            return {"ledger": tuple(moved if entry.id == self.entry_id else entry for entry in strip.ledger)}

        return session.with_strip(self.strip_id, changed)


class RemoveMove(_OnLedger):
    """Take a move out of a ledger; `seen` is the move as it was when that was decided."""

    do: Literal["remove-move"] = "remove-move"
    entry_id: str = Field(max_length=64)
    seen: Move

    def applied(self, session: Session) -> Session:
        """Return the session without the move. Raises as `Intent.apply`. Source: ours."""

        def changed(strip: StripBase) -> dict[str, object]:
            now = _entry(strip, self.entry_id)
            if now.move != self.seen:
                raise ConflictError(
                    f"{strip.name}: the {named_move(now.move)} was not removed, since another page has changed it "
                    "meanwhile; remove it again if you want it gone"
                )
            return {"ledger": tuple(entry for entry in strip.ledger if entry.id != self.entry_id)}

        return session.with_strip(self.strip_id, changed)


class SetLedger(_OnLedger):
    """Switch a ledger as a whole on or off, or give it another phase."""

    do: Literal["set-ledger"] = "set-ledger"
    fields: LedgerFields
    seen: LedgerFields

    def applied(self, session: Session) -> Session:
        """Return the session with the ledger set. Raises as `Intent.apply`. Source: ours."""
        return set_fields(session, self.strip_id, self.fields, self.seen)


class _Answer(_OnLedger):
    """By a move, or as wanted: then with a keeper."""

    answer: str
    entry: LedgerEntry | None = None
    keeper: Keeper | None = None

    @model_validator(mode="after")
    def _brings_what_it_needs(self) -> Self:
        if self.answer in ("cut", "tame") and self.entry is None:
            raise ValueError(f"answer={self.answer} needs an entry with its move")
        if self.answer == "wanted" and self.keeper is None:
            raise ValueError("answer=wanted needs a keeper")
        return self

    def _answered(self, session: Session) -> Session:
        if self.entry is not None:
            return AddMove(strip_id=self.strip_id, entry=self.entry).applied(session)
        return session.with_strip(self.strip_id, lambda strip: {"keepers": (*strip.keepers, self.keeper)})


class AnswerSuspect(_Answer):
    """Judge a suspect: by a move, as wanted, or as no fault."""

    do: Literal["answer-suspect"] = "answer-suspect"
    answer: Literal["cut", "tame", "wanted", "not-a-fault"]
    hz: float = Field(ge=20.0, le=20_000.0)
    q: float = Field(ge=0.1, le=100.0)

    def applied(self, session: Session) -> Session:
        """Return the session with the answer. Raises as `Intent.apply`. Source: ours."""
        if self.answer == "not-a-fault":
            place = Dismissed(hz=self.hz, wide=self.q < WIDE_BELOW_Q)
            return session.with_strip(self.strip_id, lambda strip: {"dismissed": (*strip.dismissed, place)})
        return self._answered(session)


class AnswerPin(_Answer):
    """Judge a pin, by a move or as wanted; the pin goes."""

    do: Literal["answer-pin"] = "answer-pin"
    answer: Literal["cut", "tame", "wanted"]
    pin: Pin

    def applied(self, session: Session) -> Session:
        """Return the session with the answer. Raises as `Intent.apply`. Source: ours."""

        def without_pin(strip: StripBase) -> dict[str, object]:
            if self.pin not in strip.pins:
                raise ConflictError(f"{strip.name}: this pin at {self.pin.hz:.0f} Hz was answered from another page")
            return {"pins": tuple(pin for pin in strip.pins if pin != self.pin)}

        return self._answered(session.with_strip(self.strip_id, without_pin))


def set_fields(session: Session, strip_id: str, fields: Frozen, seen: Frozen) -> Session:
    """Return the session with some fields of a strip set; raises as `Intent.apply`. Source: ours."""

    def changed(strip: StripBase) -> dict[str, object]:
        wanted = {name: getattr(fields, name) for name in fields.model_fields_set}
        for name, value in wanted.items():
            if name in seen.model_fields_set:
                label = f"{name.removesuffix('_db').replace('_', ' ')} of {strip.name}"
                refuse_changed(label, now=getattr(strip, name), seen=getattr(seen, name), wanted=value)
        return wanted

    return session.with_strip(strip_id, changed)


def _entry(strip: StripBase, entry_id: str) -> LedgerEntry:
    for entry in strip.ledger:
        if entry.id == entry_id:
            return entry
    raise ConflictError(f"{strip.name}: this move was removed from another page meanwhile; undo brings it back")
