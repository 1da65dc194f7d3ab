"""Serving on loopback, the same for pages and sound."""

import asyncio
import logging
import signal
import sys
from collections.abc import Awaitable, Callable
from typing import Any

import uvicorn

__all__ = ["serve_on_loopback"]

ASGIApp = Callable[[Any, Any, Any], Awaitable[None]]


def _is_worth_logging(record: logging.LogRecord) -> bool:
    """Tell whether a log's record is of a fault: whoever still waited when we were told to stop is not."""
    error = record.exc_info[1] if record.exc_info else None
    return not isinstance(error, asyncio.CancelledError)


def serve_on_loopback(app: ASGIApp, *, port: int, graceful_s: int) -> None:
    """Serve until told to stop, then end by the ordinary way, so that what hangs on the process is cleaned up."""
    # The server gives the signal back to whoever had it before: without this, that would kill the process.
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C reaches the whole group; the supervisor decides
    logging.getLogger("uvicorn.error").addFilter(_is_worth_logging)
    uvicorn.run(
        app,
        host="127.0.0.1",
        port=port,
        log_level="warning",
        ws_per_message_deflate=False,
        timeout_graceful_shutdown=graceful_s,
    )
