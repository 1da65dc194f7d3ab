"""Kept moves: over all sessions, as treatment files where they leave or enter."""

from typing import Annotated
from urllib.parse import quote

from fastapi import APIRouter, Query, Response

from mivlo.core.moves import Move
from mivlo.server.api.common import Db, Problem
from mivlo.server.services import kept_moves

__all__ = ["router"]

router = APIRouter(prefix="/api/kept-moves", tags=["proof"], responses={404: {"model": Problem}})
Amount = Annotated[float, Query(ge=0.0, le=150.0, description="per cent: nearer to nothing, or further")]


@router.get("")
def list_kept(db: Db) -> list[kept_moves.KeptMoves]:
    """Return all that is kept, by name."""
    return kept_moves.list_kept(db)


@router.post("", status_code=201, responses={422: {"model": Problem}})
def keep(body: kept_moves.NewKeptMoves, db: Db) -> kept_moves.KeptMoves:
    """Keep moves under a name."""
    return kept_moves.keep(db, body)


@router.get("/{kept_id}/moves")
def moves_at_amount(kept_id: str, db: Db, amount: Amount = 100.0) -> list[Move]:
    """Return the moves as they are at an amount, to be added to a ledger."""
    treatment = kept_moves.kept_moves(db, kept_id).treatment
    return list(treatment.model_copy(update={"amount": treatment.amount * amount / 100.0}).acting())


@router.get("/{kept_id}/treatment.json", response_class=Response)
def treatment_file(kept_id: str, db: Db) -> Response:
    """Return the moves as a treatment file."""
    kept = kept_moves.kept_moves(db, kept_id)
    name = quote(f"{kept.name}.json", safe="")
    headers = {"content-disposition": f"attachment; filename*=UTF-8''{name}"}
    return Response(kept.treatment.model_dump_json(indent=1), media_type="application/json", headers=headers)


@router.delete("/{kept_id}", status_code=204)
def remove(kept_id: str, db: Db) -> None:
    """Keep something no longer."""
    kept_moves.remove(db, kept_id)
