"""Computing one product, whatever it is: an analysis, a file to be taken in, a hand-over."""

import logging
import os
import shutil
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

from sqlalchemy import func, select
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session as Database

from mivlo.core.analyses.base import AnyAnalysis, Need, Work
from mivlo.core.analyses.needs import needs_of
from mivlo.core.analyses.registry import ANALYSES
from mivlo.core.engine.source import open_source
from mivlo.core.errors import MivloError
from mivlo.core.hand_over import HandOverRequest, render_all
from mivlo.server.db.engine import open_db
from mivlo.server.db.tables import ProductRow
from mivlo.server.services import handover
from mivlo.server.services.imports import TAKE_IN, Incoming, stored_path, take_in
from mivlo.server.services.products import (
    Priority,
    begin,
    done_result,
    finish,
    hold_products,
    put_back,
    report,
    stopped,
    want,
    wanted_of,
)
from mivlo.server.services.same_content import content_of, twin_of
from mivlo.server.services.sessions import read_session
from mivlo.server.settings import settings

__all__ = ["PROGRESS_S", "CancelledError", "compute", "evict", "result_now"]

PROGRESS_STEP, PROGRESS_S = 0.02, 0.1
FIRST_PAUSE_S, LONGEST_PAUSE_S = 0.1, 5.0  # before what the database did not take is tried again
MADE_ROOM_S = 10.0  # between two looks at how much is kept
Changed = TypeVar("Changed")
log = logging.getLogger(__name__)
_made_room_at_s = 0.0


class CancelledError(Exception):
    """Nobody wants what is being computed any more."""


class NeedGoneError(Exception):
    """What a product is computed from was thrown away to make room, after it had been there."""


def compute(product_id: str, worker: str) -> None:
    """Compute one product; whatever happens, its row says how that ended, and only what is whole is kept."""
    row = _insist(lambda db: begin(db, product_id, worker))
    if row is None:
        return
    try:
        result, n_bytes, content = _run(row)
    except CancelledError:
        _insist(lambda db: stopped(db, product_id))
    except NeedGoneError:
        _ask_again(row)
    except MivloError as error:
        _ended(row, status="failed", code=error.code, reason=str(error))
    except OSError as error:
        reason = f"the data folder cannot be written or read ({error.strerror or error})"
        _insist(lambda db: put_back(db, product_id, code="disk", reason=reason))
    except OperationalError:  # the database went away meanwhile: that is no fault of what was computed
        reason = "the database did not answer while it was computed"
        log.warning("%s %s: %s", row.kind, product_id, reason)
        _insist(lambda db: put_back(db, product_id, code="no-database", reason=reason))
    except Exception:
        log.exception("%s %s", row.kind, product_id)
        reason = "an unforeseen fault; the log of the job process has it"
        _insist(lambda db: put_back(db, product_id, code="mivlo-error", reason=reason))
    else:
        _ended(row, status="done", result=result, n_bytes=n_bytes, content=content)
        _make_room_now_and_then()


def _run(row: ProductRow) -> tuple[str, int, str | None]:
    """Return what came of it, how much of the disk that takes, and what it hangs on by what its files hold."""
    reporter = _Reporter(row.id)
    if row.kind == TAKE_IN:
        return take_in(Incoming.model_validate_json(row.params), settings().import_limits).model_dump_json(), 0, None
    if row.kind == handover.HAND_OVER:
        request = HandOverRequest.model_validate_json(row.params)
        with open_db() as db:
            state = read_session(db, row.session_id).as_treated(request.treatment)
        folder = settings().handover_folder(row.id)
        try:
            files = render_all(state, request, folder, handover.kept_sound(), reporter, result_now)
        except BaseException:
            shutil.rmtree(folder, ignore_errors=True)
            raise
        return files.model_dump_json(), 0, None
    analysis, folder = ANALYSES[row.kind], settings().product_folder(row.id)
    part = folder.with_name(f".{row.id}.part")
    shutil.rmtree(part, ignore_errors=True)
    with open_db() as db:
        content = content_of(db, row, analysis)
        twin = None if content is None else twin_of(db, row, content)
    if twin is not None and _is_linked(twin, analysis, folder, part):
        return twin.result or "", twin.bytes, content
    return *_analysed(row, analysis, folder, part, reporter), content


def _is_linked(twin: ProductRow, analysis: AnyAnalysis, folder: Path, part: Path) -> bool:
    """Let a product have the files of one that hangs on the same; False where they are just being deleted, or this disk
    knows no links."""
    try:
        if analysis.writes_files:
            shutil.copytree(settings().product_folder(twin.id), part, copy_function=os.link)
            shutil.rmtree(folder, ignore_errors=True)
            part.replace(folder)
    except OSError:
        shutil.rmtree(part, ignore_errors=True)
        return False
    return True


def _analysed(
    row: ProductRow, analysis: AnyAnalysis, folder: Path, part: Path, reporter: "_Reporter"
) -> tuple[str, int]:  # fmt: skip
    params = analysis.params.model_validate_json(row.params)
    if analysis.writes_files:
        part.mkdir(parents=True)
    try:
        for need in needs_of(analysis, params):
            _kept_result(need)
        work = Work(_open, _kept_result, lambda need: settings().product_folder(need.key), part, reporter)
        result = analysis.adapter().dump_json(analysis.analyse(work, params)).decode()
        n_bytes = sum(file.stat().st_blocks * 512 for file in part.rglob("*"))
        if analysis.writes_files:
            shutil.rmtree(folder, ignore_errors=True)
            part.replace(folder)
    finally:
        shutil.rmtree(part, ignore_errors=True)
    return result, n_bytes + len(result)


def _open(audio_id: str) -> Any:
    return open_source(stored_path(audio_id))


def _kept_result(need: Need) -> Any:
    with open_db() as db:
        result = done_result(db, need.key)
    if result is None:
        raise NeedGoneError(need.key)
    return need.analysis.adapter().validate_json(result)


def result_now(need: Need) -> Any:
    """Return a result as it is kept; what is not kept is computed here and now. Only for what writes no files."""
    try:
        return _kept_result(need)
    except NeedGoneError:
        work = Work(_open, result_now, lambda one: settings().product_folder(one.key), Path(os.devnull), lambda _: None)
        return need.analysis.analyse(work, need.params)


class _Reporter:
    """Writes progress down now and then, and stops the work when nobody wants it any more."""

    def __init__(self, product_id: str) -> None:
        self._id = product_id
        self._last, self._at_s = 0.0, time.monotonic()

    def __call__(self, progress: float) -> None:
        now_s = time.monotonic()
        if progress - self._last < PROGRESS_STEP or now_s - self._at_s < PROGRESS_S:
            return
        self._last, self._at_s = progress, now_s
        try:
            is_wanted = _with_db(lambda db: report(db, self._id, progress))
        except OperationalError:
            return  # what is computed is worth more than to say how far it is
        if not is_wanted:
            raise CancelledError


def _ended(row: ProductRow, **outcome: Any) -> None:
    if not _insist(lambda db: finish(db, row.id, **outcome, keeps_params=row.kind not in ANALYSES)):
        shutil.rmtree(settings().product_folder(row.id), ignore_errors=True)


def _ask_again(row: ProductRow) -> None:
    """Let what was thrown away be computed again, and the product after it."""
    analysis = ANALYSES[row.kind]
    wanted = wanted_of(row.session_id, row.strip_id, analysis, analysis.params.model_validate_json(row.params))

    def again(db: Database) -> None:
        hold_products(db)
        own = db.get_one(ProductRow, row.id, with_for_update=True)
        own.status = "cancelled"
        db.flush()
        want(db, wanted, priority=Priority(own.priority), foreseen=own.foreseen)

    _insist(again)


def _with_db(change: Callable[[Database], Changed]) -> Changed:
    with open_db() as db:
        changed = change(db)
        db.commit()
    return changed


def _insist(change: Callable[[Database], Changed]) -> Changed:
    """Make a change however long the database takes nothing, as on a full disk: a job that gave up would be gone, and
    its product would wait for good."""
    pause_s = FIRST_PAUSE_S
    while True:
        try:
            return _with_db(change)
        except OperationalError as error:
            log.warning("a change of the database is tried again: %s", error.orig)
        time.sleep(pause_s)
        pause_s = min(2 * pause_s, LONGEST_PAUSE_S)


def _make_room_now_and_then() -> None:
    global _made_room_at_s  # noqa: PLW0603 - one for each worker
    if time.monotonic() - _made_room_at_s > MADE_ROOM_S:
        _made_room_at_s = time.monotonic()
        _with_db(lambda db: evict(db, settings().product_bytes))


def evict(db: Database, budget_bytes: int) -> None:
    """Throw away what was not used for the longest time, until the rest fits; imports and hand-overs stay."""
    kept = (ProductRow.status == "done", ProductRow.kind.in_(ANALYSES))
    over = (db.scalar(select(func.coalesce(func.sum(ProductRow.bytes), 0)).where(*kept)) or 0) - budget_bytes
    if over <= 0:
        return
    hold_products(db)
    for row in db.scalars(
        select(ProductRow).where(*kept).order_by(ProductRow.used_at).with_for_update(skip_locked=True)
    ):
        if over <= 0:
            break
        over -= row.bytes
        db.delete(row)
        shutil.rmtree(settings().product_folder(row.id), ignore_errors=True)
