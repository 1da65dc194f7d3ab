"""Proof: what treatments do differently, and blind checks."""

from typing import Annotated

from fastapi import APIRouter, Query
from fastapi.responses import HTMLResponse

from mivlo.core.model import Treatment
from mivlo.core.proof.blind import AskedCheck
from mivlo.core.proof.differences import Difference, differences
from mivlo.core.proof.report import Report, to_page
from mivlo.server.api.common import Db, Now, Problem
from mivlo.server.services import blind
from mivlo.server.services.report import report_now

__all__ = ["router"]

router = APIRouter(
    prefix="/api/sessions/{session_id}", tags=["proof"],
    responses={404: {"model": Problem}, 409: {"model": Problem}, 422: {"model": Problem}},
)  # fmt: skip
Other = Annotated[Treatment, Query(description="the treatment that is told by what it does otherwise")]


@router.get("/differences")
def read_differences(now: Now, other: Other) -> list[Difference]:
    """Return what another treatment does otherwise than the one that this is about."""
    return differences(now, now.as_treated(other))


@router.get("/blind-checks")
def list_blind_checks(session_id: str, db: Db) -> list[blind.BlindCheck]:
    """Return the finished blind checks of a session, newest first."""
    return blind.list_checks(db, session_id)


@router.post("/blind-checks", status_code=201)
def begin_blind_check(now: Now, body: AskedCheck, db: Db) -> blind.BlindCheck:
    """Begin a blind check; its order is told to nobody before the end."""
    return blind.begin(db, now, body)


@router.post("/blind-checks/{check_id}/answers")
def answer_blind_check(session_id: str, check_id: str, body: blind.BlindAnswer, db: Db) -> blind.BlindCheck:
    """Answer the next trial."""
    return blind.answer(db, session_id, check_id, body)


@router.get("/report.json")
def read_report(now: Now, db: Db) -> Report:
    """Return what was done, with all that is known of it by now."""
    return report_now(db, now)


@router.get("/report", response_class=HTMLResponse)
def print_report(now: Now, db: Db) -> HTMLResponse:
    """Return what was done as a page to print."""
    return HTMLResponse(to_page(report_now(db, now)))
