"""Products: what is computed once and kept, from the question to the answer; the one place that knows their status.

A product waits until its needs are there, then it is a job on the queue, and then it is done or has failed. All of
that happens in transactions of the database, so that whichever process ends where, nothing is computed twice or lost.
Whoever changes more than one product holds them all (`hold_products`) until its transaction ends: products are tied to
one another in every direction, and two who lock some of them in different orders would wait for each other for good.
"""

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from enum import IntEnum
from typing import Any

from pydantic import BaseModel
from sqlalchemy import ColumnElement, Select, delete, exists, func, select, text, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session as Database

from mivlo.core.analyses.base import AnyAnalysis, key_of
from mivlo.core.analyses.needs import needs_of
from mivlo.core.model import Frozen
from mivlo.server.db.news import ListenedTo, ProductNews, tell
from mivlo.server.db.tables import ProductNeedRow, ProductRow, ProductWantRow
from mivlo.server.settings import settings

__all__ = [
    "ENDED",
    "LISTEN",
    "QUEUE",
    "TASK",
    "WAITED_QUEUE",
    "Priority",
    "Wanted",
    "begin",
    "cancel",
    "done_result",
    "drop",
    "enqueue",
    "enqueue_listening", "fetch_again",
    "finish",
    "hold_products",
    "listened_to",
    "look_at",
    "not_foreseen_any_more",
    "put_back",
    "report",
    "stopped",
    "take_up",
    "tell_of_deletion",
    "want",
    "wanted_of",
]  # fmt: skip

QUEUE, TASK, LISTEN = "products", "compute", "listen"
WAITED_QUEUE = "waited for"  # one worker does nothing else: whoever waits need not wait for what is only foreseen
ENDED = ("done", "failed", "cancelled")
MOST_TRIES = 3  # the first and two more
PASSING = ("process-ended", "disk", "no-database", "mivlo-error")  # may go better another time; all else is so for good
TRIED_AGAIN_AFTER = timedelta(seconds=3)
USED_NOTED = timedelta(hours=1)  # how exactly it is known when a product was used last
ENDED_FROM_OUTSIDE = (
    "the process that computed this was ended from outside three times, as happens when memory runs out; nothing "
    "saved is lost: try again"
)
_ALL_PRODUCTS = 0x6D69766C6F  # the one lock on all of them: any number that nobody else takes
_AUDIO_IDS = re.compile(r'"audio_id":"([0-9a-f]{32})"')


class Priority(IntEnum):
    """Who comes first in the queue."""

    BACKGROUND = 0
    LOOKED_AT_LAST = 5
    LOOKED_AT = 10
    WAITED_FOR = 20
    HEARD = 30  # what plays is made equally loud by it


@dataclass(frozen=True, slots=True)
class Wanted:
    """A product before anybody knows whether it is there: its id, what it is, and what it needs."""

    id: str
    kind: str
    session_id: str
    strip_id: str | None
    params: BaseModel
    needs: tuple["Wanted", ...] = ()


def hold_products(db: Database) -> None:
    """Let nobody else change how products are tied to one another until this transaction ends: to be called before the
    first of them is locked, and never twice in different orders. Raises OperationalError where that takes too long."""
    db.execute(text("SELECT pg_advisory_xact_lock(:all)"), {"all": _ALL_PRODUCTS})


def wanted_of(session_id: str, strip_id: str | None, analysis: AnyAnalysis, params: Frozen) -> Wanted:
    """Return the product of an analysis, with all that it needs."""
    needs = (wanted_of(session_id, strip_id, need.analysis, need.params) for need in needs_of(analysis, params))
    return Wanted(
        id=key_of(analysis, params), kind=analysis.name, session_id=session_id, strip_id=strip_id,
        params=params, needs=tuple(sorted(needs, key=lambda one: one.id)),
    )  # fmt: skip


def want(
    db: Database, wanted: Wanted, *, priority: Priority, wanter: str | None = None, foreseen: bool = False
) -> ProductRow:  # fmt: skip
    """Ask for a product: return its row, done or not; what is not there yet is begun, in this transaction."""
    row = db.get(ProductRow, wanted.id)
    if row is not None and row.status in ENDED and not (_must_begin(row) or foreseen > row.foreseen or _is_old(row)):
        return row  # nothing to be noted: nobody is held up
    hold_products(db)
    # All at once: a session of many tracks has thousands of ties, and nobody else gets on meanwhile.
    there = select(ProductRow).where(ProductRow.id.in_(_ids_of(wanted))).execution_options(populate_existing=True)
    known = {one.id: one for one in db.scalars(there)}
    for one in known.values():
        if one.status in ENDED and _is_old(one):  # what is needed is in use as well
            one.used_at = datetime.now(UTC)
    row = _wanted(db, wanted, priority, known)
    _note(db, row, wanter, foreseen)
    return row


def _ids_of(wanted: Wanted) -> set[str]:
    """Return the ids of a product and of all that it needs."""
    return {wanted.id}.union(*map(_ids_of, wanted.needs))


def _wanted(db: Database, wanted: Wanted, priority: Priority, known: dict[str, ProductRow]) -> ProductRow:
    row = known.get(wanted.id)
    if row is not None and not _must_begin(row) and (row.status != "waiting" or row.priority >= priority):
        return row
    needs = {need.id: _wanted(db, need, priority, known) for need in wanted.needs}
    known[wanted.id] = row = _locked(db, wanted, priority)
    if row.status == "waiting" and row.priority < priority:
        row.priority = priority
        _set_queued_priority(db, [row.id], priority)
    elif row.status == "new" or _must_begin(row):
        _begin_anew(db, row, wanted, priority, needs)
    return row


def _locked(db: Database, wanted: Wanted, priority: Priority) -> ProductRow:
    """Return the row of a product, made where there is none, and held until the end of the transaction."""
    params = wanted.params.model_dump_json()
    values = {
        "id": wanted.id, "session_id": wanted.session_id, "strip_id": wanted.strip_id, "kind": wanted.kind,
        "params": params, "audio_ids": sorted(set(_AUDIO_IDS.findall(params))), "status": "new",
        "priority": int(priority), "foreseen": False, "progress": 0.0, "tries": 0, "cancel_requested": False,
        "bytes": 0,
    }  # fmt: skip
    db.execute(insert(ProductRow).values(values).on_conflict_do_nothing())
    return db.get_one(ProductRow, wanted.id, with_for_update=True, populate_existing=True)


def _begin_anew(
    db: Database, row: ProductRow, wanted: Wanted, priority: Priority, needs: dict[str, ProductRow]
) -> None:  # fmt: skip
    row.status, row.progress, row.tries, row.cancel_requested = "waiting", 0.0, 0, False
    row.params, row.priority = wanted.params.model_dump_json(), int(priority)
    row.code = row.reason = row.ended_at = None
    db.flush()
    failed = next((one for one in needs.values() if one.status == "failed"), None)
    if failed is not None:
        finish(db, row.id, status="failed", code=failed.code, reason=failed.reason)
        return
    missing = [one.id for one in needs.values() if one.status != "done"]
    if missing:
        ties = [{"product_id": row.id, "need_id": need_id} for need_id in missing]
        db.execute(insert(ProductNeedRow).values(ties).on_conflict_do_nothing())
    else:
        enqueue(db, row)


def _must_begin(row: ProductRow) -> bool:
    """Tell whether a product is to be computed anew: it was cancelled, or failed by what may have passed."""
    if row.status == "cancelled":
        return True
    if row.status != "failed" or row.code not in PASSING:
        return False
    return row.ended_at is None or datetime.now(UTC) - row.ended_at > TRIED_AGAIN_AFTER


def _is_old(row: ProductRow) -> bool:
    """Tell whether it is to be noted anew that a product was used."""
    return datetime.now(UTC) - row.used_at > USED_NOTED


def _note(db: Database, row: ProductRow, wanter: str | None, foreseen: bool) -> None:
    if foreseen and not row.foreseen:
        row.foreseen = True
    if row.status not in ENDED and wanter is not None:
        db.flush()
        db.execute(insert(ProductWantRow).values(product_id=row.id, wanter=wanter).on_conflict_do_nothing())
        if row.cancel_requested:
            row.cancel_requested = False
    db.flush()


def enqueue(db: Database, row: ProductRow) -> None:
    """Put a product that waits for nothing more into the queue; there it stands once."""
    _defer(db, TASK, {"product_id": row.id}, lock=row.id, priority=row.priority)


def _defer(db: Database, task: str, args: dict[str, str], *, lock: str, priority: int, delay_s: float = 0.0) -> None:
    """Put a job into the queue in this transaction, unless the same waits there already."""
    known = "SELECT 1 FROM procrastinate_jobs WHERE queueing_lock = :lock AND status = 'todo'"
    if db.execute(text(known), {"lock": lock}).first() is not None:
        return
    arguments = ", ".join(f"'{name}', CAST(:{name} AS text)" for name in args)
    at = "now() + make_interval(secs => :delay_s)" if delay_s else "NULL"
    db.execute(
        text(
            "SELECT procrastinate_defer_jobs_v1(ARRAY[ROW(:queue, :task, :priority, NULL, :lock, "
            f"jsonb_build_object({arguments}), {at})::procrastinate_job_to_defer_v1])"
        ),
        {"queue": _queue_of(priority), "task": task, "priority": priority, "lock": lock, **args}
        | ({"delay_s": delay_s} if delay_s else {}),
    )


def _queue_of(priority: int) -> str:
    return WAITED_QUEUE if priority >= Priority.WAITED_FOR else QUEUE


def enqueue_listening(db: Database, session_id: str, *, delay_s: float = 0.0) -> None:
    """Let what a session needs be looked through, and what is missing of it be computed in the background."""
    if not settings().foresees:
        return
    lock = f"listen {session_id}"
    _defer(db, LISTEN, {"session_id": session_id}, lock=lock, priority=Priority.WAITED_FOR, delay_s=delay_s)


def not_foreseen_any_more(db: Database, session_id: str, still: Sequence[str]) -> None:
    """Note what a session needs now, and give up what it needed before and nobody waits for."""
    hold_products(db)
    now = ProductRow.session_id == session_id
    db.execute(update(ProductRow).where(now, ProductRow.id.in_(still), ~ProductRow.foreseen).values(foreseen=True))
    past = update(ProductRow).where(now, ProductRow.foreseen, ProductRow.id.not_in(still)).values(foreseen=False)
    _cancel_unwanted(db, db.scalars(past.returning(ProductRow.id)).all())
    tell(db, listened_to(db, session_id))


def begin(db: Database, product_id: str, worker: str) -> ProductRow | None:
    """Take a product over to compute it; None where it is not wanted any more, or under way elsewhere."""
    row = db.get(ProductRow, product_id, with_for_update=True, populate_existing=True)
    if row is not None and row.status == "running" and row.worker == worker:
        return row  # begun a moment ago, and the database's answer was lost: a worker computes one at a time
    if row is None or row.status != "waiting":
        return None
    row.status, row.worker, row.progress = "running", worker, 0.0
    row.tries += 1
    _tell(db, row)
    return row


def report(db: Database, product_id: str, progress: float) -> bool:
    """Note how far a product is; return whether anybody still wants it."""
    row = db.get(ProductRow, product_id, populate_existing=True)
    if row is None or row.cancel_requested:
        return False
    row.progress = progress
    _tell(db, row)
    return True


def finish(
    db: Database, product_id: str, *, status: str, result: str | None = None, n_bytes: int = 0,
    code: str | None = None, reason: str | None = None, keeps_params: bool = False, content: str | None = None,
) -> bool:  # fmt: skip
    """Note what came of a product, and let go on what has waited for it; False where it was deleted meanwhile."""
    hold_products(db)
    row = db.get(ProductRow, product_id, with_for_update=True, populate_existing=True)
    if row is None:
        return False
    row.status, row.result, row.bytes, row.code, row.reason = status, result, n_bytes, code, reason
    row.content = content
    row.ended_at = row.used_at = datetime.now(UTC)
    row.worker = None
    row.progress = 1.0 if status == "done" else row.progress
    if not keeps_params and status == "done":
        row.params = ""  # the id says all of them
    db.flush()
    db.execute(delete(ProductWantRow).where(ProductWantRow.product_id == product_id))
    waiting = select(ProductNeedRow.product_id).where(ProductNeedRow.need_id == product_id)
    waiting_rows = db.scalars(select(ProductRow).where(ProductRow.id.in_(waiting)).order_by(ProductRow.id)).all()
    db.execute(delete(ProductNeedRow).where(ProductNeedRow.need_id == product_id))
    for one in waiting_rows:
        if status != "done":
            finish(db, one.id, status=status, code=code, reason=reason)
        elif one.status == "waiting" and not db.scalar(select(exists().where(ProductNeedRow.product_id == one.id))):
            enqueue(db, one)
    _tell(db, row)
    return True


def put_back(db: Database, product_id: str, *, code: str, reason: str) -> None:
    """Let a product be tried again that went wrong by what may pass; after the third time it has failed."""
    hold_products(db)
    row = db.get(ProductRow, product_id, with_for_update=True, populate_existing=True)
    if row is None or row.status != "running":
        return
    if row.tries >= MOST_TRIES:
        finish(db, product_id, status="failed", code=code, reason=reason)
    else:
        _wait_again(db, row)


def _wait_again(db: Database, row: ProductRow) -> None:
    row.status, row.worker, row.progress = "waiting", None, 0.0
    enqueue(db, row)
    _tell(db, row)


def stopped(db: Database, product_id: str) -> None:
    """Note that work on a product was stopped since nobody wanted it; who has asked for it meanwhile gets it still."""
    hold_products(db)
    row = db.get(ProductRow, product_id, with_for_update=True, populate_existing=True)
    if row is None or row.status != "running":
        return
    if row.cancel_requested and not row.foreseen and db.scalar(_unwanted_of([product_id])) is not None:
        finish(db, product_id, status="cancelled")
        return
    row.tries -= 1
    row.cancel_requested = False
    _wait_again(db, row)


def take_up(db: Database, worker: str, *, died: bool) -> None:
    """Put back what a worker of this name was computing when it died, or was stopped together with all else."""
    hold_products(db)
    running = select(ProductRow.id).where(ProductRow.status == "running", ProductRow.worker == worker)
    for product_id in db.scalars(running).all():
        if not died:
            own = db.get_one(ProductRow, product_id, with_for_update=True)
            own.tries -= 1
            db.flush()
        # The job of a dead worker would stand in the queue for good.
        dead = "DELETE FROM procrastinate_jobs WHERE queueing_lock = :id AND status = 'doing'"
        db.execute(text(dead), {"id": product_id})
        put_back(db, product_id, code="process-ended", reason=ENDED_FROM_OUTSIDE)


def fetch_again(db: Database, *, silent_s: float) -> None:
    """Put back jobs that were fetched by workers of which nothing was heard for so long; what is under way, or done, is
    found to be so when they are fetched again."""
    jobs = (
        "UPDATE procrastinate_jobs AS one SET status = 'todo', worker_id = NULL "
        "WHERE status = 'doing' AND queue_name = ANY(:queues) AND NOT EXISTS (SELECT 1 FROM procrastinate_workers "
        "WHERE id = one.worker_id AND last_heartbeat > now() - make_interval(secs => :silent_s)) "
        "AND NOT EXISTS (SELECT 1 FROM procrastinate_jobs AS other "
        "WHERE other.queueing_lock = one.queueing_lock AND other.status = 'todo')"
    )
    db.execute(text(jobs), {"queues": [QUEUE, WAITED_QUEUE], "silent_s": silent_s})


def drop(db: Database, wanter: str, product_ids: Sequence[str] | None = None) -> None:
    """Note that somebody does not wait any more for some products (None: for any); what nobody wants is cancelled."""
    hold_products(db)
    mine = [ProductWantRow.wanter == wanter]
    if product_ids is not None:
        mine.append(ProductWantRow.product_id.in_(product_ids))
    given_up = db.scalars(delete(ProductWantRow).where(*mine).returning(ProductWantRow.product_id)).all()
    _cancel_unwanted(db, given_up)


def tell_of_deletion(db: Database, which: ColumnElement[bool]) -> None:
    """Tell whoever waits for products that are about to be deleted that these will not come."""
    for row in db.scalars(select(ProductRow).where(which, ProductRow.status.not_in(ENDED))):
        tell(db, ProductNews(session_id=row.session_id, id=row.id, kind=row.kind, status="cancelled"))


def cancel(db: Database, row: ProductRow) -> None:
    """Stop a product: at once where it waits, else as soon as it reports."""
    hold_products(db)
    db.refresh(row)
    row.cancel_requested = True
    if row.status == "waiting":
        _leave_queue(db, row.id)
        finish(db, row.id, status="cancelled")


def _cancel_unwanted(db: Database, product_ids: Iterable[str]) -> None:
    # Of the many that a product of all tracks needs, hardly one is wanted by nobody else.
    for product_id in db.scalars(_unwanted_of(product_ids)).all():
        row = db.get(ProductRow, product_id, with_for_update=True, populate_existing=True)
        if row is None or row.status in ENDED:
            continue
        if row.foreseen:
            row.priority = Priority.BACKGROUND
            _set_queued_priority(db, [product_id], Priority.BACKGROUND)
        elif row.status == "running":
            row.cancel_requested = True
        else:
            needs = db.scalars(select(ProductNeedRow.need_id).where(ProductNeedRow.product_id == product_id)).all()
            _leave_queue(db, product_id)
            row.status = "cancelled"
            _tell(db, row)
            db.delete(row)
            db.flush()
            _cancel_unwanted(db, needs)


def _unwanted_of(product_ids: Iterable[str]) -> Select[Any]:
    """Return which products are under way though nobody waits for them, nor anything that is to be computed."""
    wanted = exists().where(ProductWantRow.product_id == ProductRow.id)
    needed = exists().where(ProductNeedRow.need_id == ProductRow.id)
    under_way = ProductRow.id.in_(set(product_ids)), ProductRow.status.not_in(ENDED)
    return select(ProductRow.id).where(*under_way, ~wanted, ~needed).order_by(ProductRow.id)


def _leave_queue(db: Database, product_id: str) -> None:
    db.execute(text("DELETE FROM procrastinate_jobs WHERE queueing_lock = :id AND status = 'todo'"), {"id": product_id})


def _set_queued_priority(db: Database, product_ids: Sequence[str], priority: Priority) -> None:
    db.execute(
        text(
            "UPDATE procrastinate_jobs SET priority = :priority, queue_name = :queue "
            "WHERE queueing_lock = ANY(:ids) AND status = 'todo'"
        ),
        {"priority": int(priority), "queue": _queue_of(priority), "ids": list(product_ids)},
    )


def look_at(db: Database, session_id: str, strip_id: str | None) -> None:
    """Let what is still to be listened to of one strip come before that of all others."""
    hold_products(db)
    waiting = (ProductRow.session_id == session_id, ProductRow.status == "waiting", ProductRow.foreseen)
    for mine, priority in ((False, Priority.BACKGROUND), (True, Priority.LOOKED_AT)):
        which = ProductRow.strip_id == strip_id if mine else ProductRow.strip_id.is_distinct_from(strip_id)
        changed = update(ProductRow).where(*waiting, which, ProductRow.priority < Priority.WAITED_FOR)
        ids = db.scalars(changed.values(priority=int(priority)).returning(ProductRow.id)).all()
        _set_queued_priority(db, ids, priority)


def done_result(db: Database, product_id: str) -> str | None:
    """Return what is kept of a product; None where it is not there."""
    return db.scalar(select(ProductRow.result).where(ProductRow.id == product_id, ProductRow.status == "done"))


def listened_to(db: Database, session_id: str) -> ListenedTo:
    """Return how much of what a session needs has been listened to."""
    foreseen = (ProductRow.session_id == session_id, ProductRow.foreseen)
    by_status = select(ProductRow.status, func.count()).where(*foreseen).group_by(ProductRow.status)
    counted = {status: n for status, n in db.execute(by_status)}
    missing = select(ProductRow.strip_id).where(*foreseen, ProductRow.status.not_in(ENDED)).distinct()
    return ListenedTo(
        session_id=session_id, done=sum(counted.get(status, 0) for status in ENDED), of=sum(counted.values()),
        strip_ids=sorted(one for one in db.scalars(missing) if one is not None),
    )  # fmt: skip


def _tell(db: Database, row: ProductRow) -> None:
    state: dict[str, Any] = {"status": row.status, "progress": row.progress}
    tell(db, ProductNews(session_id=row.session_id, id=row.id, kind=row.kind, **state))
    if row.foreseen and row.status in ENDED:
        tell(db, listened_to(db, row.session_id))
