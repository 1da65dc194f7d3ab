"""The round: one list over all that is to be judged in a session."""

from typing import Annotated

from fastapi import APIRouter, Query

from mivlo.core.round.row import RoundView
from mivlo.server.api.analyses import PageId
from mivlo.server.api.common import Db, Now, Problem
from mivlo.server.services.round import round_of

__all__ = ["router"]

router = APIRouter(prefix="/api", tags=["round"], responses={404: {"model": Problem}})
Asks = Annotated[bool, Query(description="let what is missing be computed; once for each revision is enough")]


@router.get("/sessions/{session_id}/round")
def read_round(now: Now, db: Db, x_mivlo_page: PageId = None, asks: Asks = True) -> RoundView:
    """Return the rows as far as they are known; the news tell when more is."""
    return round_of(db, now, wanter=x_mivlo_page, asks=asks)
