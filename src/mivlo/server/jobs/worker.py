"""The job process: `python -m mivlo.server.jobs.worker` works the queue off."""

import logging

import procrastinate

from mivlo.server.jobs.queue import QUEUE, TASK, conninfo, enqueue, forget_interrupted, hand_over
from mivlo.server.services.pool import close_pool

__all__ = ["main"]


def make_app() -> procrastinate.App:
    """Return the queue's application."""
    app = procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=conninfo()))
    app.task(name=TASK, queue=QUEUE)(hand_over)
    return app


def main() -> None:
    """Take up what a killed process left, then work until told to stop."""
    logging.basicConfig(level=logging.ERROR)
    for handover_id in forget_interrupted():
        enqueue(handover_id)
    try:
        make_app().run_worker(queues=[QUEUE], concurrency=1, fetch_job_polling_interval=1.0, delete_jobs="always")
    finally:
        close_pool()
