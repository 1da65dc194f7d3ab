"""Sessions: list, make, read, edit, undo, redo, and the news of changes."""

import asyncio
from typing import Annotated

from fastapi import APIRouter, WebSocket, WebSocketDisconnect
from pydantic import BaseModel, Field

from mivlo.server.api.common import Db, Problem
from mivlo.server.services import sessions
from mivlo.server.services.state import Edit, SessionState, SessionSummary

__all__ = ["router"]

router = APIRouter(prefix="/api/sessions", tags=["sessions"], responses={409: {"model": Problem}, 422: {"model": Problem}})
_listeners: dict[str, set[asyncio.Queue[int]]] = {}


class NewSession(BaseModel):
    """What a session starts with; its rate stays for good."""

    name: str = Field(min_length=1, max_length=120)
    sample_rate_hz: Annotated[int, Field(ge=44_100, le=96_000)] = 48_000


class BaseRevision(BaseModel):
    """The revision that a page has seen."""

    base_revision: int


@router.get("")
def list_sessions(db: Db) -> list[SessionSummary]:
    """Return all sessions."""
    return sessions.list_sessions(db)


@router.post("", status_code=201)
def create_session(body: NewSession, db: Db) -> SessionState:
    """Make an empty session."""
    return sessions.create_session(db, name=body.name, sample_rate_hz=body.sample_rate_hz)


@router.get("/{session_id}")
def read_session(session_id: str, db: Db) -> SessionState:
    """Return a session."""
    return sessions.read_session(db, session_id)


@router.post("/{session_id}/edits")
def edit(session_id: str, body: Edit, db: Db) -> SessionState:
    """Make one undoable change; it is on disk when this answers."""
    return sessions.edit_session(db, session_id, body)


@router.post("/{session_id}/undo")
def undo(session_id: str, body: BaseRevision, db: Db) -> SessionState:
    """Take the last change back."""
    return sessions.undo(db, session_id, base_revision=body.base_revision)


@router.post("/{session_id}/redo")
def redo(session_id: str, body: BaseRevision, db: Db) -> SessionState:
    """Make the change again that was last taken back."""
    return sessions.redo(db, session_id, base_revision=body.base_revision)


@router.websocket("/{session_id}/news")
async def news(socket: WebSocket, session_id: str) -> None:
    """Send the revision after each change of a session."""
    await socket.accept()
    queue: asyncio.Queue[int] = asyncio.Queue()
    _listeners.setdefault(session_id, set()).add(queue)
    listening = asyncio.create_task(_until_closed(socket))
    try:
        while not listening.done():
            waiting = asyncio.create_task(queue.get())
            await asyncio.wait({waiting, listening}, return_when=asyncio.FIRST_COMPLETED)
            if not waiting.done():
                waiting.cancel()
                break
            await socket.send_json({"revision": waiting.result()})
    except WebSocketDisconnect:
        pass
    finally:
        listening.cancel()
        _listeners[session_id].discard(queue)


async def _until_closed(socket: WebSocket) -> None:
    while (await socket.receive())["type"] != "websocket.disconnect":
        pass


def watch_changes(loop: asyncio.AbstractEventLoop) -> None:
    """Pass the changes that use cases commit (in worker threads) on to the listening pages."""

    def tell(session_id: str, revision: int) -> None:
        for queue in list(_listeners.get(session_id, ())):
            loop.call_soon_threadsafe(queue.put_nowait, revision)

    sessions.on_change(tell)
