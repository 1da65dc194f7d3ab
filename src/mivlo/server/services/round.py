"""The round of a session as far as it is known; what is not known yet is asked for."""

from sqlalchemy.orm import Session as Database

from mivlo.core.analyses.base import Need
from mivlo.core.errors import MivloError
from mivlo.core.round.row import RoundView
from mivlo.core.round.rows import last_questions, later_questions, round_questions, round_rows
from mivlo.server.services.products import Priority, done_result, want, wanted_of
from mivlo.server.services.state import SessionState

__all__ = ["round_of"]


def round_of(db: Database, session: SessionState, *, wanter: str | None, asks: bool) -> RoundView:
    """Return the rows that are known; where asked, let what is missing be computed for a page. Raises nothing."""

    def known(need: Need) -> object:
        result = done_result(db, need.key)
        return None if result is None else need.analysis.adapter().validate_json(result)

    view = round_rows(session, known)
    if not asks:
        return view
    wanted = []
    if view.waiting:
        wanted += [(Priority.LOOKED_AT, *one) for one in round_questions(session)]
        wanted += [(Priority.LOOKED_AT_LAST, *one) for one in last_questions(session)]
    wanted += [(Priority.BACKGROUND, *one) for one in later_questions(session)]
    for priority, analysis, asked in wanted:
        try:
            params = analysis.question(session, asked, known)
        except MivloError:
            continue
        product = wanted_of(session.id, getattr(asked, "strip_id", None), analysis, params)
        want(db, product, priority=priority, wanter=wanter)
        db.commit()
    return view
