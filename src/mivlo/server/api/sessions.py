"""Sessions: list, make, read, edit, undo, redo, drafts to be heard."""

from typing import Annotated

from fastapi import APIRouter, Query
from pydantic import BaseModel, Field

from mivlo.core.model.base import Name
from mivlo.server.api.common import Db, Now, Problem
from mivlo.server.services import sessions
from mivlo.server.services.staging import common_rate_hz
from mivlo.server.services.state import Draft, Edit, Edited, SessionState, SessionSummary, StepInHistory
from mivlo.server.services.storage import (
    Freed,
    Shelved,
    Storage,
    clear_shelf,
    delete_audio,
    delete_session,
    shelf,
    shelve,
    storage_of,
    unshelve,
)

__all__ = ["router"]

router = APIRouter(
    prefix="/api/sessions", tags=["sessions"], responses={409: {"model": Problem}, 422: {"model": Problem}}
)


StagedId = Annotated[str, Field(pattern="^[0-9a-f]{32}$")]


class NewSession(BaseModel):
    """What a session starts with; its rate stays for good. With staged files, it is the one that most of them have."""

    name: Name = Field(min_length=1, max_length=120)
    sample_rate_hz: Annotated[int, Field(ge=44_100, le=96_000)] = 48_000
    staged: Annotated[list[StagedId], Field(max_length=1_000)] = []


@router.get("")
def list_sessions(db: Db) -> list[SessionSummary]:
    """Return all sessions."""
    return sessions.list_sessions(db)


@router.post("", status_code=201)
def create_session(body: NewSession, db: Db) -> SessionState:
    """Make an empty session."""
    rate_hz = common_rate_hz(body.staged) if body.staged else body.sample_rate_hz
    return sessions.create_session(db, name=body.name, sample_rate_hz=rate_hz)


@router.get("/shelf")
def read_shelf(db: Db) -> list[Shelved]:
    """Return deleted sessions that can still come back."""
    clear_shelf(db)
    return shelf(db)


@router.get("/{session_id}")
def read_session(now: Now) -> SessionState:
    """Return a session."""
    return now


@router.post("/{session_id}/edits")
def edit(session_id: str, body: Edit, db: Db) -> Edited:
    """Make one undoable change; it is on disk when this answers. Sent again, it is answered alike."""
    return sessions.edit_session(db, session_id, body)


@router.post("/{session_id}/undo")
def undo(session_id: str, body: StepInHistory, db: Db) -> Edited:
    """Take the last change back."""
    return sessions.undo(db, session_id, body)


@router.post("/{session_id}/redo")
def redo(session_id: str, body: StepInHistory, db: Db) -> Edited:
    """Make the change again that was last taken back."""
    return sessions.redo(db, session_id, body)


@router.post("/{session_id}/drafts", status_code=204)
def keep_draft(session_id: str, body: Draft, db: Db) -> None:
    """Remember intents that are to be heard before they are taken: a listening names them by their id."""
    sessions.keep_draft(db, session_id, body)


@router.get("/{session_id}/storage")
def storage(session_id: str, db: Db) -> Storage:
    """Return what a session takes on the disk."""
    return storage_of(db, session_id)


@router.delete("/{session_id}")
def remove(
    session_id: str, db: Db, for_good: Annotated[bool, Query(description="at once, and also from the shelf")] = False
) -> Freed:  # fmt: skip
    """Delete a session: onto the shelf, from which it comes back for some days, or for good."""
    if for_good:
        return delete_session(db, session_id)
    shelve(db, session_id)
    return Freed(freed_bytes=0)


@router.post("/{session_id}/unshelve")
def bring_back(session_id: str, db: Db) -> SessionState:
    """Bring a deleted session back from the shelf."""
    unshelve(db, session_id)
    return sessions.read_session(db, session_id)


@router.delete("/{session_id}/audio/{audio_id}")
def remove_audio(session_id: str, audio_id: str, db: Db) -> Freed:
    """Delete sound that no track has any more, for good; undo goes no further back than that."""
    return delete_audio(db, session_id, audio_id)
