"""Intents on references; one comes in with its file."""

from typing import TYPE_CHECKING, Literal

from pydantic import Field

from mivlo.core.model.base import Frozen, partial_of
from mivlo.core.model.intents.base import Intent, refuse_changed
from mivlo.core.model.references import Reference
from mivlo.core.model.session import Session

__all__ = ["RemoveReference", "SetReference"]

if TYPE_CHECKING:

    class ReferenceFields(Frozen):
        """Fields of a reference."""

else:
    ReferenceFields = partial_of(Reference, "ReferenceFields", without={"id", "audio_id"})


class SetReference(Intent):
    """Set some fields of a reference; `seen` has them as they were when that was decided."""

    do: Literal["set-reference"] = "set-reference"
    reference_id: str = Field(max_length=64)
    fields: ReferenceFields
    seen: ReferenceFields

    def apply(self, session: Session) -> Session:
        """Return the session with the reference set. Raises as `Intent.apply`. Source: ours."""
        reference = session.reference(self.reference_id)
        wanted = {name: getattr(self.fields, name) for name in self.fields.model_fields_set}
        for name in wanted.keys() & self.seen.model_fields_set:
            now, seen = getattr(reference, name), getattr(self.seen, name)
            refuse_changed(f"{name} of {reference.name}", now=now, seen=seen, wanted=wanted[name])
        changed = reference.model_copy(update=wanted)
        return session.changed(references=tuple(changed if one is reference else one for one in session.references))


class RemoveReference(Intent):
    """Let a reference go; undo brings it back. One that is gone already stays gone."""

    do: Literal["remove-reference"] = "remove-reference"
    reference_id: str = Field(max_length=64)

    def apply(self, session: Session) -> Session:
        """Return the session without the reference. Raises nothing. Source: ours."""
        return session.changed(references=tuple(one for one in session.references if one.id != self.reference_id))
