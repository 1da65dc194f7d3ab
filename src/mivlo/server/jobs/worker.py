"""The job process: `python -m mivlo.server.jobs.worker` works the queue off."""

import logging
import sys

import procrastinate
import psycopg
from procrastinate.exceptions import ConnectorException
from sqlalchemy.exc import SQLAlchemyError

from mivlo.server.jobs.queue import QUEUE, TASK, enqueue, forget_interrupted, hand_over
from mivlo.server.services.pool import close_pool
from mivlo.server.settings import settings

__all__ = ["main"]


def make_app() -> procrastinate.App:
    """Return the queue's application."""
    app = procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=settings().conninfo))
    app.task(name=TASK, queue=QUEUE)(hand_over)
    return app


def main() -> None:
    """Take up what a killed process left, then work until told to stop, or until the database goes away."""
    logging.basicConfig(level=logging.ERROR)
    for name in ("procrastinate", "psycopg.pool"):
        logging.getLogger(name).setLevel(logging.CRITICAL)  # they tell a lost connection with a page of traceback
    try:
        for handover_id in forget_interrupted():
            enqueue(handover_id)
        make_app().run_worker(queues=[QUEUE], concurrency=1, fetch_job_polling_interval=1.0, delete_jobs="always")
    except (ConnectorException, SQLAlchemyError, psycopg.Error):
        sys.exit("mivlo: jobs: the database went away; beginning anew")
    finally:
        close_pool()
