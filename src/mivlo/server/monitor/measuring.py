"""A process that measures what is being played: in the one that plays, nothing but sound may hold the interpreter."""

import contextlib
import multiprocessing
import os
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import BrokenExecutor, Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from typing import ParamSpec, TypeVar

__all__ = ["EndedError", "opened", "prepare", "submit"]

P = ParamSpec("P")
T = TypeVar("T")

PRELOADED = ["mivlo.server.monitor.spectra"]
NICENESS = 10  # below the process that renders sound
_lock = threading.Lock()
_pool: ProcessPoolExecutor | None = None
_is_open = False


class EndedError(BrokenExecutor):
    """Nothing is measured any more: the sound process ends."""


def _end_with_parent() -> None:
    """End when the process that made this one is gone, however it ended: a killed one cannot say goodbye."""
    parent = multiprocessing.parent_process()
    if parent is not None:
        parent.join()
        os._exit(0)


def _prepare_process() -> None:
    threading.Thread(target=_end_with_parent, daemon=True).start()
    os.nice(NICENESS)


def _made() -> ProcessPoolExecutor:
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(PRELOADED)
    return ProcessPoolExecutor(1, context, initializer=_prepare_process)


def submit(function: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> Future[T]:
    """Start a function of a module in the process that measures; raises EndedError outside of `opened`."""
    global _pool  # noqa: PLW0603 - made when a page first comes, and again after a crash
    with _lock:  # its end does not come between a pool and its use
        if not _is_open:
            raise EndedError
        _pool = _pool or _made()
        try:
            return _pool.submit(function, *args, **kwargs)
        except BrokenProcessPool:
            _pool = _made()
            return _pool.submit(function, *args, **kwargs)


def prepare() -> None:
    """Start the process beforehand: loading what it needs takes a processor for half a second, just when somebody
    begins to play."""
    with contextlib.suppress(EndedError):
        submit(os.getpid)


@contextlib.contextmanager
def opened() -> Iterator[None]:
    """Let things be measured; at the end, end the process that does, and start no other one."""
    global _pool, _is_open  # noqa: PLW0603 - there is one
    _is_open = True
    try:
        yield
    finally:
        with _lock:
            _is_open = False
            if _pool is not None:
                _pool.shutdown(wait=True, cancel_futures=True)
            _pool = None
