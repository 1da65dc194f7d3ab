"""The session as pages see it, and the edits they may ask for."""

from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import Field

from mivlo.core.model import Frozen, RecordedSession
from mivlo.core.model.intents import AnyIntent

__all__ = ["Draft", "Edit", "Edited", "SessionState", "SessionSummary", "StepInHistory", "Undoable", "audio_ids_in"]

EditId = Annotated[str, Field(pattern="^[0-9a-f]{32}$")]
Author = Literal["engineer"]  # so far there is one


def audio_ids_in(stored: Mapping[str, Any]) -> set[str]:
    """Return the ids of all sound that a strip or a reference as it is stored, or a session's own fields, needs.

    Raises nothing. Source: ours.
    """
    within = (stored, stored.get("later") or {}, *(stored.get("references") or ()))
    return {one["audio_id"] for one in within if "audio_id" in one}


class SessionSummary(Frozen):
    """A line of the list of sessions."""

    id: str
    name: str
    sample_rate_hz: int
    n_tracks: int
    is_demo: bool


class Undoable(Frozen):
    """A change that can be taken back, or made again."""

    edit_id: str
    label: str


class SessionState(RecordedSession):
    """The whole session at one revision."""

    revision: int
    undo: Undoable | None
    redo: Undoable | None
    is_demo: bool


class Edit(Frozen):
    """One undoable change, under an id of its author's: sent again, it is answered alike and not made again."""

    id: EditId
    author: Author = "engineer"
    label: str = Field(min_length=1, max_length=200)
    intents: tuple[AnyIntent, ...] = Field(min_length=1, max_length=200)


class StepInHistory(Frozen):
    """Taking a change back, or making it again: `of` is the edit that was seen to be next."""

    id: EditId
    author: Author = "engineer"
    of: str = Field(max_length=64)


class Edited(Frozen):
    """The answer to an edit: at which revision it stands, and the session as it is now."""

    edit_id: str
    revision: int
    session: SessionState


class Draft(Frozen):
    """Intents to be heard before they are taken; the last few of a session are remembered."""

    id: EditId
    intents: tuple[AnyIntent, ...] = Field(min_length=1, max_length=200)
