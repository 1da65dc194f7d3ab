"""A process that measures what is being played: in the one that plays, nothing but sound may hold the interpreter."""

import multiprocessing
import os
import threading
from collections.abc import Callable
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from typing import ParamSpec, TypeVar

__all__ = ["close", "prepare", "submit"]

P = ParamSpec("P")
T = TypeVar("T")

PRELOADED = ["mivlo.server.monitor.spectra"]
NICENESS = 10  # below the process that renders sound
_lock = threading.Lock()
_pool: ProcessPoolExecutor | None = None


def _end_with_parent() -> None:
    """End when the process that made this one is gone, however it ended: a killed one cannot say goodbye."""
    parent = multiprocessing.parent_process()
    if parent is not None:
        parent.join()
        os._exit(0)


def _prepare_process() -> None:
    threading.Thread(target=_end_with_parent, daemon=True).start()
    os.nice(NICENESS)


def _current(*, broken: ProcessPoolExecutor | None = None) -> ProcessPoolExecutor:
    global _pool  # noqa: PLW0603 - made when a page first comes, and again after a crash
    with _lock:
        if _pool is None or _pool is broken:
            context = multiprocessing.get_context("forkserver")
            context.set_forkserver_preload(PRELOADED)
            _pool = ProcessPoolExecutor(1, context, initializer=_prepare_process)
        return _pool


def submit(function: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> Future[T]:
    """Start a function of a module in the process that measures."""
    pool = _current()
    try:
        return pool.submit(function, *args, **kwargs)
    except BrokenProcessPool:
        return _current(broken=pool).submit(function, *args, **kwargs)


def prepare() -> None:
    """Start the process beforehand: loading what it needs takes a processor for half a second, just when somebody
    begins to play."""
    submit(os.getpid)


def close() -> None:
    """End the process that measures."""
    global _pool  # noqa: PLW0603
    with _lock:
        if _pool is not None:
            _pool.shutdown(wait=True, cancel_futures=True)
        _pool = None
