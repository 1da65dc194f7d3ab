"""The monitor's socket; the process is started beforehand, and loads its kernels before anybody plays."""

import asyncio
import contextlib
import gc
import os
import sys
import threading
from collections.abc import AsyncIterator, Iterable

from fastapi import FastAPI, WebSocket, WebSocketDisconnect
from pydantic import ValidationError

from mivlo.core.engine.warm_up import warm_up
from mivlo.core.errors import MivloError
from mivlo.core.treatment import explain_validation
from mivlo.server.access import LocalOnly
from mivlo.server.monitor.changes import Changes
from mivlo.server.monitor.messages import Held, Play, Problem, Reader, SetMix, Stop
from mivlo.server.monitor.player import LivePlay, Message, measure_spectra
from mivlo.server.services.pool import close_pool, start_pool_soon, submit
from mivlo.server.serving import serve_on_loopback
from mivlo.server.settings import settings

__all__ = ["app", "main"]

SWITCH_INTERVAL_S = 0.0005  # threads that hold the interpreter lock give way to the socket in time


@contextlib.asynccontextmanager
async def _lifespan(_: FastAPI) -> AsyncIterator[None]:
    # The process that measures spectra: in this one, nothing but sound may hold the interpreter's lock.
    start_pool_soon(asyncio.get_running_loop())
    yield
    close_pool()


app = FastAPI(title="Mivlo monitor", lifespan=_lifespan, docs_url=None, redoc_url=None)


@app.websocket("/monitor")
async def monitor(socket: WebSocket) -> None:
    """Play to one page."""
    await socket.accept()
    reader, changes = Reader(), Changes(lambda messages: _send(socket, messages))
    play: LivePlay | None = None
    measuring: asyncio.Task[None] | None = None
    try:
        with contextlib.suppress(WebSocketDisconnect):  # while something is sent
            while True:
                told = await socket.receive()
                if told["type"] == "websocket.disconnect":
                    break
                try:
                    before, play = play, await _answer(socket, reader, changes, play, told.get("text") or "")
                    if play is not before:
                        _change_over(before, play)
                except ValidationError as error:
                    await _send(socket, [Problem(message=explain_validation(error))])
                except (MivloError, OSError) as error:
                    await _send(socket, [Problem(message=str(error))])
                if play is not None and (measuring is None or measuring.done()):
                    measuring = asyncio.create_task(_measure(socket, play))
    finally:
        changes.forget()
        _change_over(play, None)


def _change_over(before: LivePlay | None, play: LivePlay | None) -> None:
    """End what is rendered ahead for one play, and begin it for the next, in a thread that waits for no message."""
    if before is not None:
        before.finish()
    if play is not None:
        threading.Thread(target=play.keep_ahead, name="ahead", daemon=True).start()


async def _answer(
    socket: WebSocket, reader: Reader, changes: Changes, play: LivePlay | None, text: str
) -> LivePlay | None:
    message = reader.read(text)
    match message:
        case Play():
            changes.forget()
            play = LivePlay(message, settings().data / "audio")
            await _send(socket, play.start())
        case Stop():
            changes.forget()
            play = None
        case SetMix():
            if play is not None:
                await changes.take(play, message)
        case Held():
            if play is not None:
                await _send(socket, play.held(message))
    return play


async def _send(socket: WebSocket, messages: Iterable[Message]) -> None:
    for message in messages:
        if isinstance(message, bytes):
            await socket.send_bytes(message)
        else:
            await socket.send_text(message.model_dump_json())


async def _measure(socket: WebSocket, play: LivePlay) -> None:
    """Send the live spectrum when one is due."""
    due = play.spectra_due()
    if due is None:
        return
    track_id, before, after = due
    spectra = await asyncio.wrap_future(submit(measure_spectra, track_id, before, after, play.sample_rate_hz))
    with contextlib.suppress(WebSocketDisconnect, RuntimeError):
        await _send(socket, [spectra])


def main() -> None:
    """Serve on loopback until told to stop."""
    own = settings()
    sys.setswitchinterval(SWITCH_INTERVAL_S)
    with contextlib.suppress(PermissionError):
        os.nice(-5)  # sound before pages and analysis, where we may
    warm_up()
    gc.freeze()
    serve_on_loopback(LocalOnly(app, own_port=own.monitor_port, page_port=own.port), port=own.monitor_port, graceful_s=1)
