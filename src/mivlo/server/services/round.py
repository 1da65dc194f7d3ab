"""The round of a session as far as it is known; what is not known yet is asked for."""

from sqlalchemy.orm import Session as Database

from mivlo.core.analyses.base import Need
from mivlo.core.errors import MivloError
from mivlo.core.model import Group
from mivlo.core.round_rows import RoundView, round_questions, round_rows
from mivlo.server.services.products import Priority, done_result, want, wanted_of
from mivlo.server.services.state import SessionState

__all__ = ["round_of"]


def round_of(db: Database, session: SessionState, *, wanter: str | None) -> RoundView:
    """Return the rows that are known, and let what is missing be computed for a page. Raises nothing."""

    def known(need: Need) -> object:
        result = done_result(db, need.key)
        return None if result is None else need.analysis.adapter().validate_json(result)

    view = round_rows(session, known)
    if view.waiting:
        for analysis, asked in round_questions(session):
            try:
                params = analysis.question(session, asked, known)
            except MivloError:
                continue
            strip_id = getattr(asked, "strip_id", None)
            # A group sounds otherwise after every edit of what is in it: that comes behind all that is asked for.
            is_group = strip_id is not None and isinstance(session.strip(strip_id), Group)
            priority = Priority.BACKGROUND if is_group else Priority.LOOKED_AT
            want(db, wanted_of(session.id, strip_id, analysis, params), priority=priority, wanter=wanter)
            db.commit()
    return view
