"""Ensemble: who hides whom, and the moves by which tracks yield."""

from typing import Annotated

from fastapi import APIRouter, Query

from mivlo.core.ensemble.yielding import DEEPEST_DB, DEFAULT_PART, Terms
from mivlo.server.api.common import Now, Problem
from mivlo.server.services import ensemble, views

__all__ = ["router"]

router = APIRouter(
    prefix="/api/sessions/{session_id}", tags=["ensemble"], responses={404: {"model": Problem}, 422: {"model": Problem}}
)


@router.get("/ensemble")
def ensemble_view(now: Now) -> ensemble.EnsembleView:
    """Return who hides whom; until that is known, how far the work on it is: ask again."""
    return ensemble.ensemble_of(now)


@router.get("/ensemble/yield")
def draft_yield(
    now: Now,
    clash_id: str,
    part: Annotated[float, Query(gt=0.0, le=1.0)] = DEFAULT_PART,
    limit_db: Annotated[float | None, Query(ge=0.1, le=DEEPEST_DB)] = None,
    is_dynamic: bool = True,
) -> ensemble.YieldView:
    """Return the move by which the track without the right of way yields in a clash; it waits for a yes."""
    return ensemble.yield_of(now, clash_id, Terms(part, limit_db, is_dynamic))


@router.get("/mix/comparison")
def mix_comparison(now: Now) -> views.MixComparison:
    """Return loudness, true peak and spectrum of the whole mix without all moves and with them."""
    return views.mix_comparison(now)
