"""The job processes: `main` loads what they need once, and keeps as many of them as are set, and one that computes only
what somebody waits for.

Each computes one product at a time, on one thread. A worker that dies is made anew; it first puts back what the one
before it was computing.
"""

import asyncio
import contextlib
import gc
import importlib
import logging
import multiprocessing
import os
import signal
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from multiprocessing.connection import wait
from typing import Any

import procrastinate
import psycopg
from procrastinate.exceptions import ConnectorException
from sqlalchemy.exc import SQLAlchemyError

from mivlo.core.engine.warm_up import warm_up
from mivlo.server.db.engine import engine, open_db
from mivlo.server.jobs.compute import compute
from mivlo.server.services.analyses import listen
from mivlo.server.services.products import LISTEN, QUEUE, TASK, WAITED_QUEUE, fetch_again, take_up
from mivlo.server.settings import settings
from mivlo.server.with_parent import end_with_parent

__all__ = ["ALL_QUEUES", "main", "work"]

ALL_QUEUES = (WAITED_QUEUE, QUEUE)
IDLE_S = 20.0
HEARTBEAT_S, SILENT_S = 1.0, 8.0  # how often a worker says that it lives, and how long one may be silent
LOOKS_FOR_DELAYED_S = 0.5  # jobs that are put off are not told of when they are due
FIRST_PAUSE_S, LONGEST_PAUSE_S, CALM_S = 0.1, 10.0, 30.0


def make_app(worker: str, activity: "Activity") -> procrastinate.App:
    """Return the queue's application, for one worker."""
    app = procrastinate.App(
        connector=procrastinate.PsycopgConnector(conninfo=settings().conninfo, min_size=1, max_size=3)
    )

    @app.task(name=TASK, queue=QUEUE)
    def compute_one(product_id: str) -> None:
        with activity.job():
            compute(product_id, worker)

    # Nobody asks again for what is listened to unasked, where the database was too busy to answer, or its disk full.
    @app.task(name=LISTEN, queue=QUEUE, retry=procrastinate.RetryStrategy(max_attempts=20, wait=1, linear_wait=1))
    def listen_to(session_id: str) -> None:
        with activity.job():
            listen(session_id)

    return app


async def work(
    worker: str, queues: Sequence[str], *, died: bool = False, stop: asyncio.Event | None = None
) -> None:  # fmt: skip
    """Take up what a worker of this name left, then work the queue off until told to stop.

    Parameters
    ----------
    worker : a name; nobody else has it at the same time
    queues : what it works off
    died : the one before it ended by itself, as what it computed may be the reason of
    stop : told to stop by this; None: by signals

    Raises
    ------
    ConnectorException, SQLAlchemyError, psycopg.Error: the database is away
    """
    with open_db() as db:
        take_up(db, worker, died=died)
        db.commit()
    activity = Activity()
    app = make_app(worker, activity)
    lost = _lost_while_ending_a_job()
    async with app.open_async():
        working = asyncio.create_task(
            app.run_worker_async(
                queues=list(queues), name=worker, concurrency=1, fetch_job_polling_interval=LOOKS_FOR_DELAYED_S,
                delete_jobs="always", install_signal_handlers=stop is None, update_heartbeat_interval=HEARTBEAT_S,
                stalled_worker_timeout=SILENT_S,
            )
        )  # fmt: skip
        looking = asyncio.create_task(_look_for_lost_jobs())
        end = asyncio.create_task(activity.until_idle() if stop is None else stop.wait())
        ends: list[asyncio.Future[Any]] = [working, lost, end]
        await asyncio.wait(ends, return_when=asyncio.FIRST_COMPLETED)
        failed = next((one for one in (working, lost) if one.done()), None)
        for one in (*ends, looking):
            one.cancel()
        await asyncio.wait([*ends, looking])
        if failed is not None:
            await failed


def _lost_while_ending_a_job() -> asyncio.Future[None]:
    """Return what fails when the database goes away just as the queue notes that a job is done: nobody awaits that
    note, so it would be a page of traceback, and the job would stand under way for as long as this worker lives."""
    loop = asyncio.get_running_loop()
    lost: asyncio.Future[None] = loop.create_future()

    def tell(loop: asyncio.AbstractEventLoop, context: dict[str, object]) -> None:
        error = context.get("exception")
        if not isinstance(error, ConnectorException):
            loop.default_exception_handler(context)
        elif not lost.done():
            lost.set_exception(error)

    loop.set_exception_handler(tell)
    return lost


async def _look_for_lost_jobs() -> None:
    """Put back, now and then, what a worker had fetched and not begun when it died."""

    def look() -> None:
        with contextlib.suppress(SQLAlchemyError), open_db() as db:
            fetch_again(db, silent_s=SILENT_S)
            db.commit()

    while True:
        await asyncio.to_thread(look)
        await asyncio.sleep(SILENT_S / 2)


class Activity:
    """What a worker is doing: one that has computed and then has nothing to do gives its memory back by ending."""

    def __init__(self) -> None:
        self._n_jobs, self._under_way, self._last_s = 0, 0, time.monotonic()

    @contextlib.contextmanager
    def job(self) -> Iterator[None]:
        """Surround a job by this."""
        self._under_way += 1
        try:
            yield
        finally:
            self._under_way -= 1
            self._n_jobs += 1
            self._last_s = time.monotonic()

    async def until_idle(self) -> None:
        """Return when something was done, and nothing since then for a while."""
        while self._under_way or not self._n_jobs or time.monotonic() - self._last_s < IDLE_S:
            await asyncio.sleep(IDLE_S / 10)


def _work_in_process(worker: str, queues: Sequence[str], died: bool) -> None:
    """Be a worker of its own; ends with its parent, and when the database goes away."""
    end_with_parent(signal.SIGKILL)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    engine.cache_clear()
    tempfile.tempdir = str(settings().data)  # what does not fit into memory is larger than some places for such files
    try:
        asyncio.run(work(worker, queues, died=died))
    except (ConnectorException, SQLAlchemyError, psycopg.Error):
        time.sleep(LOOKS_FOR_DELAYED_S)
        os._exit(1)


def main() -> None:
    """Keep the workers alive until told to stop."""
    logging.basicConfig(level=logging.ERROR)
    for name in ("procrastinate", "psycopg.pool"):
        logging.getLogger(name).setLevel(logging.CRITICAL)  # they tell a lost connection with a page of traceback
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    importlib.import_module("scipy.signal")  # which the loudness meter loads
    warm_up()
    sys.stdin.readline()  # the supervisor says when the database is in order
    gc.freeze()  # what is shared with the workers is not touched
    context = multiprocessing.get_context("fork")  # what is loaded is loaded once, and shared
    queues_of: dict[str, Sequence[str]] = {
        f"worker {number}": ALL_QUEUES for number in range(1, settings().workers + 1)
    }
    queues_of["worker for who waits"] = (WAITED_QUEUE,)

    def start(name: str, *, died: bool) -> multiprocessing.process.BaseProcess:
        process = context.Process(target=_work_in_process, args=(name, queues_of[name], died), name=name, daemon=True)
        process.start()
        return process

    running = {name: start(name, died=False) for name in queues_of}
    pause_s, began_s = FIRST_PAUSE_S, time.monotonic()
    try:
        while True:
            wait([one.sentinel for one in running.values()])
            ended = {name: one for name, one in running.items() if not one.is_alive()}
            has_failed = any(one.exitcode for one in ended.values())
            if has_failed:
                if time.monotonic() - began_s > CALM_S:
                    pause_s = FIRST_PAUSE_S
                time.sleep(pause_s)
                pause_s, began_s = min(2 * pause_s, LONGEST_PAUSE_S), time.monotonic()
            running |= {name: start(name, died=bool(one.exitcode)) for name, one in ended.items()}
    finally:
        for one in running.values():
            one.kill()
