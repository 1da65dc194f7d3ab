"""The report of a session, of all results that are kept."""

from sqlalchemy.orm import Session as Database

from mivlo.core.analyses.base import Need
from mivlo.core.proof.blind import results_of_checks
from mivlo.core.proof.report import Report
from mivlo.core.proof.reporting import report_of_session
from mivlo.server.services.blind import list_checks
from mivlo.server.services.products import done_result
from mivlo.server.services.state import SessionState

__all__ = ["report_now"]


def report_now(db: Database, session: SessionState) -> Report:
    """Return what was done in the treatment that a session shows. Raises nothing."""

    def known(need: Need) -> object:
        result = done_result(db, need.key)
        return None if result is None else need.analysis.adapter().validate_json(result)

    checks = [(one.asked, one.result) for one in reversed(list_checks(db, session.id)) if one.result is not None]
    of_moves, others = results_of_checks(session, checks)
    return report_of_session(session, known, blind=of_moves, checks=others)
