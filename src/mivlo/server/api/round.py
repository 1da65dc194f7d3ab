"""The round: one list over all that is to be judged in a session."""

from fastapi import APIRouter

from mivlo.core.round_rows import RoundView
from mivlo.server.api.analyses import PageId
from mivlo.server.api.common import Db, Now, Problem
from mivlo.server.services.round import round_of

__all__ = ["router"]

router = APIRouter(prefix="/api", tags=["round"], responses={404: {"model": Problem}})


@router.get("/sessions/{session_id}/round")
def read_round(now: Now, db: Db, x_mivlo_page: PageId = None) -> RoundView:
    """Return the rows as far as they are known; the news tell when more is."""
    return round_of(db, now, wanter=x_mivlo_page)
