"""Intents on treatments as a whole: making one of another, copying, keeping the best."""

from typing import Literal

from pydantic import Field

from mivlo.core.errors import ConflictError, ParameterError
from mivlo.core.model.base import Name
from mivlo.core.model.intents.base import Intent, refuse_changed
from mivlo.core.model.ledger import LedgerState, Treatment, TreatmentName
from mivlo.core.model.session import Session
from mivlo.core.model.strips import StripBase

__all__ = ["AddTreatment", "CopyLedgers", "KeepTreatment", "RemoveTreatment", "SetTreatment"]


def _ledgers_of(session: Session, letter: Treatment) -> dict[str, LedgerState]:
    return {strip.id: strip.treated for strip in session.as_treated(letter).strips()}


def _with_ledgers(session: Session, letter: Treatment, ledgers: dict[str, LedgerState]) -> Session:
    shown = session.as_treated(letter)
    for strip_id, state in ledgers.items():
        fields = {name: getattr(state, name) for name in LedgerState.model_fields}
        shown = shown.with_strip(strip_id, lambda _, fields=fields: fields)  # type: ignore[misc]
    return shown.as_treated(session.treatment)


class AddTreatment(Intent):
    """Make another treatment: of one that is there, or (without `of`) with no moves but what stands for later."""

    do: Literal["add-treatment"] = "add-treatment"
    letter: Treatment
    name: Name = Field(default="", max_length=60)
    of: Treatment | None = None

    def apply(self, session: Session) -> Session:
        """Return the session with the treatment. Raises as `Intent.apply`. Source: ours."""
        if any(one.letter == self.letter for one in session.treatments):
            raise ConflictError(f"treatment {self.letter} is there already: choose another letter")
        made = TreatmentName(letter=self.letter, name=self.name)
        named = tuple(sorted((*session.treatments, made), key=lambda one: one.letter))
        added = session.model_copy(update={"treatments": named})
        if self.of is not None:
            return _with_ledgers(added, self.letter, _ledgers_of(session, self.of))
        # What somebody does later comes to whatever is handed over: under pressure all are compared with it.
        later = {
            strip.id: LedgerState(ledger=tuple(entry for entry in strip.ledger if entry.move.stand_in))
            for strip in session.strips()
        }
        return _with_ledgers(added, self.letter, later)


class SetTreatment(Intent):
    """Give a treatment another name; `seen` is the name as it was when that was decided."""

    do: Literal["set-treatment"] = "set-treatment"
    letter: Treatment
    name: Name = Field(max_length=60)
    seen: str = Field(max_length=60)

    def apply(self, session: Session) -> Session:
        """Return the session with the name. Raises as `Intent.apply`. Source: ours."""
        session.as_treated(self.letter)
        now = next(one for one in session.treatments if one.letter == self.letter)
        refuse_changed(f"the name of treatment {self.letter}", now=now.name, seen=self.seen, wanted=self.name)
        renamed = now.model_copy(update={"name": self.name})
        return session.model_copy(
            update={"treatments": tuple(renamed if one is now else one for one in session.treatments)}
        )


class CopyLedgers(Intent):
    """Let one treatment hold of some strips what another one holds of them."""

    do: Literal["copy-ledgers"] = "copy-ledgers"
    of: Treatment
    to: Treatment
    strip_ids: tuple[str, ...] = Field(min_length=1, max_length=300)

    def apply(self, session: Session) -> Session:
        """Return the session with the copies. Raises as `Intent.apply`. Source: ours."""
        if self.of == self.to:
            raise ParameterError(f"of={self.of} and to={self.to} must be two treatments")
        held = _ledgers_of(session, self.of)
        return _with_ledgers(session, self.to, {session.strip(one).id: held[one] for one in self.strip_ids})


class KeepTreatment(Intent):
    """Keep the best: one treatment becomes A, and all others go; undo brings them back."""

    do: Literal["keep-treatment"] = "keep-treatment"
    letter: Treatment

    def apply(self, session: Session) -> Session:
        """Return the session with one treatment. Raises as `Intent.apply`. Source: ours."""
        name = next((one.name for one in session.treatments if one.letter == self.letter), "")
        kept = session.as_treated(self.letter).model_copy(update={"treatment": "A"})
        for strip in kept.strips():
            kept = kept.with_strip(strip.id, _without_variants)
        return kept.model_copy(update={"treatments": (TreatmentName(letter="A", name=name),)})


class RemoveTreatment(Intent):
    """Take a treatment out; undo brings it back. A stays: keep another one instead."""

    do: Literal["remove-treatment"] = "remove-treatment"
    letter: Treatment

    def apply(self, session: Session) -> Session:
        """Return the session without the treatment. Raises as `Intent.apply`. Source: ours."""
        if self.letter == session.treatment:
            raise ParameterError(f"treatment {self.letter} is the one that is kept: keep another one in its place")
        session.as_treated(self.letter)

        def without(strip: StripBase) -> dict[str, object]:
            return {"variants": {one: state for one, state in strip.variants.items() if one != self.letter}}

        for strip in session.strips():
            session = session.with_strip(strip.id, without)
        left = tuple(one for one in session.treatments if one.letter != self.letter)
        return session.model_copy(update={"treatments": left})


def _without_variants(_: StripBase) -> dict[str, object]:
    return {"variants": {}}
