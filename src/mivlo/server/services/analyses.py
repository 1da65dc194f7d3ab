"""From a question about a session to the product that answers it, and back."""

from dataclasses import dataclass
from typing import Any, Literal

from pydantic import BaseModel
from sqlalchemy import select

from mivlo.core.analyses.base import Analysis, AnyAnalysis, Need
from mivlo.core.analyses.registry import foreseen
from mivlo.core.errors import MivloError, NotFoundError
from mivlo.server.db.engine import open_db
from mivlo.server.db.tables import ProductRow
from mivlo.server.services.imports import is_taking_in
from mivlo.server.services.level_match import FailedError
from mivlo.server.services.products import (
    Priority,
    done_result,
    enqueue_listening,
    not_foreseen_any_more,
    want,
    wanted_of,
)
from mivlo.server.services.sessions import read_session
from mivlo.server.services.state import SessionState

__all__ = ["Asking", "ask", "listen"]

LISTENED_AGAIN_S = 2.0


@dataclass(frozen=True, slots=True)
class Asking:
    """Where the answer to a question is: `shown` holds it as JSON once the product is done."""

    id: str
    status: Literal["waiting", "running", "done"]
    progress: float
    shown: bytes | None


def ask(
    session: SessionState, analysis: AnyAnalysis, asked: BaseModel, *, priority: Priority, wanter: str | None
) -> Asking:  # fmt: skip
    """Answer a question where the answer is kept, else let it be computed.

    Raises
    ------
    MivloError: what cannot be asked, or be computed, and why
    """
    params = analysis.question(session, asked, _known)
    wanted = wanted_of(session.id, getattr(asked, "strip_id", None), analysis, params)
    with open_db() as db:
        row = want(db, wanted, priority=priority, wanter=wanter)
        db.commit()
    if row.status == "failed":
        raise FailedError(row.code or MivloError.code, row.reason or "it could not be computed")
    if row.status != "done" or row.result is None:
        return Asking(row.id, "running" if row.status == "running" else "waiting", row.progress, None)
    return Asking(row.id, "done", 1.0, _shown(session, analysis, asked, params, row.result))


def _shown(session: SessionState, analysis: AnyAnalysis, asked: BaseModel, params: Any, result: str) -> bytes:
    if type(analysis).show is Analysis.show:
        return result.encode()
    shown = analysis.show(session, asked, params, analysis.adapter().validate_json(result))
    return analysis.shown_adapter().dump_json(shown)


def _known(need: Need) -> Any:
    with open_db() as db:
        result = done_result(db, need.key)
    return None if result is None else need.analysis.adapter().validate_json(result)


def listen(session_id: str) -> None:
    """Let all that a session needs be computed in the background, as far as it is not kept; give up what it needed
    before. While files are taken in, what hangs on all tracks can wait: it would be begun anew for each of them."""
    try:
        with open_db() as db:
            session = read_session(db, session_id)
            more_come = is_taking_in(db, session_id)
    except NotFoundError:  # deleted meanwhile
        return
    wanted = {
        one.id: one
        for treatment in session.treatments
        for analysis, asked, params in foreseen(session.as_treated(treatment.letter))
        if not (more_come and analysis.hangs_on_all)
        for one in [wanted_of(session_id, getattr(asked, "strip_id", None), analysis, params)]
    }
    with open_db() as db:
        known = set(db.scalars(select(ProductRow.id).where(ProductRow.id.in_(wanted))))
        for product_id, one in wanted.items():
            if product_id not in known:
                want(db, one, priority=Priority.BACKGROUND, foreseen=True)
                db.commit()
        not_foreseen_any_more(db, session_id, list(wanted))
        if more_come:  # and the last of them may be refused: then nobody changes the session
            enqueue_listening(db, session_id, delay_s=LISTENED_AGAIN_S)
        db.commit()
