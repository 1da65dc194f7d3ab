"""The one stream by which a page is told of everything: changes, products, hand-overs, what was listened to."""

import asyncio
import contextlib
from collections import defaultdict
from collections.abc import Callable
from typing import Annotated, Literal

from fastapi import APIRouter, Query, WebSocket
from fastapi.concurrency import run_in_threadpool
from pydantic import BaseModel, Field, TypeAdapter, ValidationError
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import Session as Database

from mivlo.server.db.engine import open_db
from mivlo.server.db.news import AnyNews, News, received
from mivlo.server.services import waiting
from mivlo.server.services.products import drop, enqueue_listening, look_at

__all__ = ["FromPage", "ToPage", "pass_on", "router"]

router = APIRouter(prefix="/api/sessions")


class Missed(BaseModel):
    """News may have been missed: whatever is shown is to be read anew."""

    about: Literal["missed"] = "missed"


class LooksAt(BaseModel):
    """What the page has on the bench: what is still to be heard of it comes before all others."""

    do: Literal["look-at"] = "look-at"
    strip_id: str | None = Field(max_length=64)


class GivesUp(BaseModel):
    """The page does not wait for some products any more."""

    do: Literal["give-up"] = "give-up"
    product_ids: list[str] = Field(max_length=1_000)


ToPage = Annotated[AnyNews | Missed, Field()]
FromPage = Annotated[LooksAt | GivesUp, Field(discriminator="do")]
_from_page: TypeAdapter[LooksAt | GivesUp] = TypeAdapter(FromPage)
_Queue = asyncio.Queue[News | Missed]
_listeners: defaultdict[str, set[_Queue]] = defaultdict(set)


@router.websocket("/{session_id}/news")
async def news(
    socket: WebSocket, session_id: str, page: Annotated[str | None, Query(pattern="^[0-9a-f]{32}$")] = None
) -> None:
    """Tell a page all that concerns a session; when it leaves, nothing is computed for it any more."""
    await socket.accept()
    queue: _Queue = asyncio.Queue()
    _listeners[session_id].add(queue)
    sending = asyncio.create_task(_send(socket, queue))
    await _change(lambda db: enqueue_listening(db, session_id))
    try:
        while (message := await socket.receive())["type"] != "websocket.disconnect":
            with contextlib.suppress(ValidationError):  # of a page of another version
                await _take(_from_page.validate_json(message.get("text") or ""), session_id, page)
    finally:
        sending.cancel()
        _listeners[session_id].discard(queue)
        if not _listeners[session_id]:
            del _listeners[session_id]
        if page is not None:
            await asyncio.shield(_change(lambda db: drop(db, page)))


async def _take(message: LooksAt | GivesUp, session_id: str, page: str | None) -> None:
    if isinstance(message, LooksAt):
        await _change(lambda db: look_at(db, session_id, message.strip_id))
    elif page is not None:
        await _change(lambda db: drop(db, page, message.product_ids))


async def _change(change: Callable[[Database], None]) -> None:
    """Change something in the database, where it is there; what a page tells here is no more than a wish."""

    def make() -> None:
        with contextlib.suppress(SQLAlchemyError), open_db() as db:
            change(db)
            db.commit()

    await run_in_threadpool(make)


async def _send(socket: WebSocket, queue: _Queue) -> None:
    with contextlib.suppress(RuntimeError):  # the page has gone meanwhile
        while True:
            await socket.send_text((await queue.get()).model_dump_json())


async def pass_on() -> None:
    """Pass what any process has committed on to the pages that it concerns, and to who waits here, for good."""
    async for one in received():
        waiting.hear(one)
        if one is None:
            for queue in [queue for queues in _listeners.values() for queue in queues]:
                queue.put_nowait(Missed())
        else:
            for queue in _listeners.get(one.session_id, ()):
                queue.put_nowait(one)
