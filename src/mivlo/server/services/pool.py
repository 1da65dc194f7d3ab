"""Processes for analysis: heavy work runs there, so that neither pages nor sound wait for it."""

import asyncio
import multiprocessing
import os
import tempfile
import threading
from collections.abc import Callable
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from typing import ParamSpec, TypeVar

import numpy as np

from mivlo.core.spectra.windows import halved_rate
from mivlo.server.settings import settings

__all__ = ["close_pool", "in_pool", "start_pool_soon", "submit"]

P = ParamSpec("P")
T = TypeVar("T")

PRELOADED = ["scipy.signal", "soxr", "mivlo.server.services.views", "mivlo.server.monitor.player"]
START_AFTER_S = 1.0
NICENESS = 10  # below the process that renders sound
_lock = threading.Lock()
_pool: ProcessPoolExecutor | None = None


def _end_with_parent() -> None:
    """End when the process that made the pool is gone, however it ended: a killed one cannot say goodbye."""
    parent = multiprocessing.parent_process()
    if parent is not None:
        parent.join()
        os._exit(0)


def _prepare_process() -> None:
    threading.Thread(target=_end_with_parent, daemon=True).start()
    os.nice(NICENESS)
    tempfile.tempdir = str(settings().data)  # what does not fit into memory is larger than some places for such files
    halved_rate(
        np.zeros((1, 64), dtype=np.float32)
    )  # the compiled loops load now, not when somebody waits for a picture


def _current(*, broken: ProcessPoolExecutor | None = None) -> ProcessPoolExecutor:
    global _pool  # noqa: PLW0603 - one pool per process, made when first needed and again after a crash
    with _lock:
        if _pool is None or _pool is broken:
            # Loading the libraries takes longer than most analyses: one process loads them, the others fork off it.
            context = multiprocessing.get_context("forkserver")
            context.set_forkserver_preload(PRELOADED)
            _pool = ProcessPoolExecutor(settings().analysis_processes, context, initializer=_prepare_process)
        return _pool


def submit(function: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> Future[T]:
    """Start a function of a module in an analysis process."""
    pool = _current()
    try:
        return pool.submit(function, *args, **kwargs)
    except BrokenProcessPool:
        return _current(broken=pool).submit(function, *args, **kwargs)


def in_pool(function: Callable[P, T], *args: P.args, **kwargs: P.kwargs) -> T:
    """Run a function in an analysis process and wait; once more where that process was killed."""
    try:
        return submit(function, *args, **kwargs).result()
    except BrokenProcessPool:
        return submit(function, *args, **kwargs).result()


def start_pool_soon(loop: asyncio.AbstractEventLoop) -> None:
    """Start the analysis processes once the application answers, before anybody waits for a picture."""
    loop.call_later(START_AFTER_S, submit, os.getpid)


def close_pool() -> None:
    """End the analysis processes."""
    global _pool  # noqa: PLW0603
    with _lock:
        if _pool is not None:
            _pool.shutdown(wait=True, cancel_futures=True)
        _pool = None
