"""The job queue and its one task."""

import logging
import shutil

import procrastinate
from procrastinate import SyncPsycopgConnector
from sqlalchemy import select, update

from mivlo.core.errors import MivloError
from mivlo.server.db.engine import open_db
from mivlo.server.db.tables import HandOverRow
from mivlo.server.services.handover import CancelledError, HandOverRequest, render_all
from mivlo.server.services.sessions import read_session
from mivlo.server.settings import settings

__all__ = ["QUEUE", "TASK", "enqueue", "forget_interrupted", "hand_over"]

QUEUE, TASK = "handover", "hand_over"
PROGRESS_STEP = 0.02
log = logging.getLogger(__name__)


def enqueue(handover_id: str) -> None:
    """Put a hand-over into the queue."""
    app = procrastinate.App(connector=SyncPsycopgConnector(conninfo=settings().conninfo))
    with app.open():
        app.configure_task(TASK, queue=QUEUE).defer(handover_id=handover_id)


def hand_over(handover_id: str) -> None:
    """Render one hand-over; whatever happens, its row says how it ended, and only whole files are offered."""
    with open_db() as db:
        row = db.get(HandOverRow, handover_id)
        if row is None or row.status != "waiting":
            return
        row.status = "running"
        db.commit()
        state = read_session(db, row.session_id)
        request = HandOverRequest.model_validate(row.request)
    folder = settings().handover_folder(handover_id)
    try:
        files = render_all(state, request, folder, _Reporter(handover_id))
        _finish(handover_id, status="done", progress=1.0, files=[file.model_dump() for file in files])
    except CancelledError:
        shutil.rmtree(folder, ignore_errors=True)
        _finish(handover_id, status="cancelled")
    except (MivloError, OSError) as error:
        shutil.rmtree(folder, ignore_errors=True)
        _finish(handover_id, status="failed", message=str(error))
    except Exception:
        shutil.rmtree(folder, ignore_errors=True)
        log.exception("hand-over %s", handover_id)
        _finish(handover_id, status="failed", message="an unforeseen fault; the log of the job process has it")


class _Reporter:
    """Writes progress down now and then, and stops the work when it is cancelled."""

    def __init__(self, handover_id: str) -> None:
        self._id = handover_id
        self._last = -1.0

    def __call__(self, progress: float) -> None:
        if progress - self._last < PROGRESS_STEP:
            return
        self._last = progress
        with open_db() as db:
            row = db.get(HandOverRow, self._id)
            if row is None:  # deleted meanwhile
                raise CancelledError
            row.progress = progress
            db.commit()
            if row.cancel_requested:
                raise CancelledError


def _finish(handover_id: str, **values: object) -> None:
    with open_db() as db:
        db.execute(update(HandOverRow).where(HandOverRow.id == handover_id).values(**values))
        db.commit()


def forget_interrupted() -> list[str]:
    """Put what a killed job process left running back to waiting; return the ids to enqueue again."""
    with open_db() as db:
        rows = db.scalars(select(HandOverRow).where(HandOverRow.status.in_(("running", "waiting")))).all()
        for row in rows:
            row.status, row.progress = "waiting", 0.0
        db.commit()
        return [row.id for row in rows]
