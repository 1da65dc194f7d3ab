"""Changes to a running play: at once, or, where that takes long to prepare, once it has been, while play goes on."""

import asyncio
import contextlib
from collections.abc import Awaitable, Callable, Iterable

from starlette.websockets import WebSocketDisconnect

from mivlo.core.errors import MivloError
from mivlo.server.monitor.messages import Problem
from mivlo.server.monitor.player import Change, LivePlay, Message

__all__ = ["Changes"]


class Changes:
    """Applies one page's changes in their order; of those that come while one is prepared, only the newest."""

    def __init__(self, send: Callable[[Iterable[Message]], Awaitable[None]]) -> None:
        self._send = send
        self._newest: Change | None = None
        self._task: asyncio.Task[None] | None = None

    async def take(self, play: LivePlay, change: Change) -> None:
        """Apply a change at once, or begin to prepare it."""
        if self._task is not None and not self._task.done():
            self._newest = change
        elif play.takes_long(change):
            self._newest = change
            self._task = asyncio.create_task(self._apply_prepared(play))
        else:
            await self._send(play.apply(change))

    def forget(self) -> None:
        """Drop what has not been applied yet: another play begins, or none."""
        if self._task is not None:
            self._task.cancel()
        self._newest = self._task = None

    async def _apply_prepared(self, play: LivePlay) -> None:
        with contextlib.suppress(WebSocketDisconnect):  # the page has gone meanwhile
            while self._newest is not None:
                change, self._newest = self._newest, None
                try:
                    await asyncio.to_thread(play.prepare, change)
                    await self._send(play.apply(change))
                except (MivloError, OSError) as error:
                    await self._send([Problem(message=str(error), playing=True)])
