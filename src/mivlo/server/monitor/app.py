"""The monitor's socket; the process is started beforehand, and loads its kernels before anybody plays."""

import asyncio
import contextlib
import gc
import os
import sys
from collections.abc import AsyncIterator
from pathlib import Path

from fastapi import FastAPI, WebSocket, WebSocketDisconnect
from pydantic import ValidationError
from sqlalchemy.exc import SQLAlchemyError

from mivlo.core.engine.warm_up import warm_up
from mivlo.core.errors import MivloError
from mivlo.core.treatment import explain_validation
from mivlo.server.access import LocalOnly
from mivlo.server.db.news import Revised, received
from mivlo.server.monitor import measuring
from mivlo.server.monitor.held import HeldSessions
from mivlo.server.monitor.messages import from_page
from mivlo.server.monitor.page import NO_DATABASE, Page
from mivlo.server.services import waiting
from mivlo.server.serving import serve_on_loopback
from mivlo.server.settings import settings

__all__ = ["app", "main"]

SWITCH_INTERVAL_S = 0.0005  # threads that hold the interpreter lock give way to the socket in time
OWN_GROUP = Path("/proc/self/autogroup")  # where the kernel has it, "nice" counts only within such a group
_pages: set[Page] = set()


@contextlib.asynccontextmanager
async def _lifespan(_: FastAPI) -> AsyncIterator[None]:
    news = asyncio.create_task(_pass_news_on())
    with measuring.opened():
        yield
    news.cancel()


app = FastAPI(title="Mivlo monitor", lifespan=_lifespan, docs_url=None, redoc_url=None)
_sessions = HeldSessions()


async def _pass_news_on() -> None:
    """Let pages go on with what anybody has changed, for good."""
    async for one in received():
        waiting.hear(one)
        for page in list(_pages):
            if one is None:
                page.renew(None)
            elif isinstance(one, Revised) and page.session_id == one.session_id:
                page.renew(one.revision)


@app.websocket("/monitor")
async def monitor(socket: WebSocket) -> None:
    """Play to one page."""
    await socket.accept()
    asyncio.get_running_loop().run_in_executor(None, measuring.prepare)
    page = Page(socket, _sessions, settings().data / "audio")
    _pages.add(page)
    try:
        with contextlib.suppress(WebSocketDisconnect):  # while something is sent
            while True:
                heard = await socket.receive()
                if heard["type"] == "websocket.disconnect":
                    break
                try:
                    await page.take(from_page.validate_json(heard.get("text") or ""))
                except ValidationError as error:
                    await page.refuse(explain_validation(error))
                except (MivloError, OSError) as error:
                    await page.refuse(str(error))
                except SQLAlchemyError:
                    await page.refuse(NO_DATABASE)
    finally:
        _pages.discard(page)
        page.leave()


def _go_first() -> None:
    """Let sound go before pages and analysis, where we may."""
    with contextlib.suppress(OSError):
        os.nice(-5)
    with contextlib.suppress(OSError):
        OWN_GROUP.write_text("-10")


def main() -> None:
    """Serve on loopback until told to stop."""
    own = settings()
    sys.setswitchinterval(SWITCH_INTERVAL_S)
    _go_first()
    warm_up()
    gc.freeze()
    guarded = LocalOnly(app, own_port=own.monitor_port, page_port=own.page_port or own.port)
    serve_on_loopback(guarded, port=own.monitor_port, graceful_s=1)
