"""Intents on the session as a whole: its name and loop, sections of the song, the right of way."""

from typing import TYPE_CHECKING, Annotated, Literal

from pydantic import Field

from mivlo.core.errors import ConflictError
from mivlo.core.model.base import Frozen, partial_of
from mivlo.core.model.intents.base import Intent, refuse_changed
from mivlo.core.model.marks import Judged, Section
from mivlo.core.model.rights import RegionRule
from mivlo.core.model.session import Session

__all__ = ["AddSection", "AnswerClash", "JudgeRow", "RemoveRule", "RemoveSection", "SetLoop", "SetOrder", "SetSession"]

if TYPE_CHECKING:

    class SessionFields(Frozen):
        """Fields of a session."""

else:
    SessionFields = partial_of(Session, "SessionFields", without=set(Session.model_fields) - {"name"})


class SetSession(Intent):
    """Set some fields of the session; `seen` has them as they were when that was decided."""

    do: Literal["set-session"] = "set-session"
    fields: SessionFields
    seen: SessionFields

    def apply(self, session: Session) -> Session:
        """Return the session with its fields set. Raises as `Intent.apply`. Source: ours."""
        wanted = {name: getattr(self.fields, name) for name in self.fields.model_fields_set}
        for name in wanted.keys() & self.seen.model_fields_set:
            refuse_changed(
                f"{name} of the session",
                now=getattr(session, name),
                seen=getattr(self.seen, name),
                wanted=wanted[name],
            )
        return session.changed(**wanted)


class SetLoop(Intent):
    """Loop a stretch, or (without frames) the song: the latest counts, since a loop is set to listen, not to keep."""

    do: Literal["set-loop"] = "set-loop"
    start_frame: int | None = Field(default=None, ge=0, le=2**40)
    end_frame: int | None = Field(default=None, ge=0, le=2**40)

    def apply(self, session: Session) -> Session:
        """Return the session with the loop. Raises as `Intent.apply`. Source: ours."""
        return session.changed(loop_start_frame=self.start_frame, loop_end_frame=self.end_frame)


class AddSection(Intent):
    """Give a passage a name; sections stand in the order of their start."""

    do: Literal["add-section"] = "add-section"
    section: Section

    def apply(self, session: Session) -> Session:
        """Return the session with the section. Raises as `Intent.apply`. Source: ours."""
        if any(one.id == self.section.id for one in session.sections):
            raise ConflictError(f"a section of the id {self.section.id} is there already")
        sections = sorted((*session.sections, self.section), key=lambda one: one.start_frame)
        return session.changed(sections=tuple(sections))


class RemoveSection(Intent):
    """Take a section's name away; one that is gone already stays gone."""

    do: Literal["remove-section"] = "remove-section"
    section_id: str = Field(max_length=64)

    def apply(self, session: Session) -> Session:
        """Return the session without the section. Raises as `Intent.apply`. Source: ours."""
        return session.changed(sections=tuple(one for one in session.sections if one.id != self.section_id))


class AnswerClash(Intent):
    """Say who of two goes first in a region, or that both stay; of all rules at one place the last counts."""

    do: Literal["answer-clash"] = "answer-clash"
    rule: RegionRule

    def apply(self, session: Session) -> Session:
        """Return the session with the rule. Raises as `Intent.apply`. Source: ours."""
        return _with_rules(session, self.rule, (self.rule,))


class RemoveRule(Intent):
    """Take a rule back: the order decides again."""

    do: Literal["remove-rule"] = "remove-rule"
    rule: RegionRule

    def apply(self, session: Session) -> Session:
        """Return the session without the rule. Raises as `Intent.apply`. Source: ours."""
        return _with_rules(session, self.rule, ())


def _with_rules(session: Session, at: RegionRule, added: tuple[RegionRule, ...]) -> Session:
    rights = session.right_of_way
    kept = tuple(rule for rule in rights.exceptions if not rule.is_at(at))
    return session.changed(right_of_way=rights.model_copy(update={"exceptions": (*kept, *added)}))


class JudgeRow(Intent):
    """Say of rows of the round that they are as they should be, or come later; null: they are to be judged again."""

    do: Literal["judge-row"] = "judge-row"
    row_ids: tuple[Annotated[str, Field(min_length=1, max_length=200)], ...] = Field(min_length=1, max_length=200)
    verdict: Literal["fine", "later"] | None = Field(...)

    def apply(self, session: Session) -> Session:
        """Return the session with the verdicts. Raises as `Intent.apply`. Source: ours."""
        kept = tuple(one for one in session.judged if one.row_id not in self.row_ids)
        judged = () if self.verdict is None else tuple(Judged(row_id=one, verdict=self.verdict) for one in self.row_ids)
        return session.changed(judged=(*kept, *judged))


class SetOrder(Intent):
    """Say in which order tracks and groups go first; `seen` is the order that was written down before."""

    do: Literal["set-order"] = "set-order"
    order: tuple[str, ...] = Field(max_length=300)
    seen: tuple[str, ...] = Field(max_length=300)

    def apply(self, session: Session) -> Session:
        """Return the session with the order. Raises as `Intent.apply`. Source: ours."""
        rights = session.right_of_way
        if rights.order not in (self.seen, self.order):
            raise ConflictError("the right of way was changed from another page meanwhile; order them again")
        return session.changed(right_of_way=rights.model_copy(update={"order": self.order}))
