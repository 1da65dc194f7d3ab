"""Hunt: suspects with their evidence, and what became of them."""

from typing import Annotated

from fastapi import APIRouter, Query

from mivlo.server.api.common import Db, Problem
from mivlo.server.services import hunt, sessions

__all__ = ["router"]

router = APIRouter(
    prefix="/api/sessions/{session_id}/strips/{strip_id}", tags=["hunt"],
    responses={404: {"model": Problem}, 422: {"model": Problem}},
)  # fmt: skip


@router.get("/suspects")
def suspects(
    session_id: str, strip_id: str, start_s: Annotated[float, Query(ge=0.0)], end_s: Annotated[float, Query(gt=0.0)], db: Db
) -> hunt.Suspects:
    """Return what behaves like a fault in a stretch of a track, a group or the mix, strongest first."""
    return hunt.suspects_of(sessions.read_session(db, session_id), strip_id, start_s=start_s, end_s=end_s)


@router.get("/cures/{entry_id}")
def cure(session_id: str, strip_id: str, entry_id: str, db: Db) -> hunt.CureView:
    """Return what became of the suspect that a move answers."""
    return hunt.cure_of(sessions.read_session(db, session_id), strip_id, entry_id)
