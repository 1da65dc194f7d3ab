"""Bench: what this installation can do, and what moves do."""

from functools import lru_cache

from fastapi import APIRouter, Response
from pydantic import BaseModel, Field

from mivlo import __version__
from mivlo.core.engine.mix import Probe
from mivlo.core.moves import Move
from mivlo.core.moves.figures import MoveKind, describe_kinds
from mivlo.core.responses import Responses, responses
from mivlo.core.roles import ROLES, Role
from mivlo.core.spectra.average import AXIS_HZ
from mivlo.core.spectra.pictures import TILE_COLUMNS, TILE_ROWS
from mivlo.core.treatment import Treatment
from mivlo.server.api.common import Problem
from mivlo.server.settings import settings

__all__ = ["router"]

router = APIRouter(prefix="/api", tags=["bench"], responses={404: {"model": Problem}, 422: {"model": Problem}})


class About(BaseModel):
    """What a page needs to know of this installation."""

    version: str
    monitor_port: int
    roles: list[Role]
    kinds: list[MoveKind]
    axis_hz: list[float]
    tile_columns: int
    tile_rows: int
    probe: Probe
    import_limits: str


class Moves(BaseModel):
    """Moves in series at a rate."""

    moves: list[Move] = Field(max_length=200)
    sample_rate_hz: int = Field(ge=44_100, le=96_000)
    amount: float = Field(default=100.0, ge=0.0, le=150.0)


@router.get("/about", response_model=About)
def about() -> Response:
    """Return kinds of moves with limits and starting values, roles, and where sound comes from."""
    return Response(_about(), media_type="application/json")


@lru_cache
def _about() -> bytes:
    """Return what stays the same as long as this process runs."""
    limits = settings().import_limits
    told = About(
        version=__version__,
        monitor_port=settings().monitor_port,
        roles=list(ROLES),
        kinds=describe_kinds(),
        axis_hz=AXIS_HZ.tolist(),
        tile_columns=TILE_COLUMNS,
        tile_rows=TILE_ROWS,
        probe=Probe(track_id="", hz=1_000.0),
        import_limits=f"up to {limits.max_seconds / 3_600:g} hours and {limits.max_bytes / 2**30:g} GiB a file, "
        f"{limits.min_rate_hz // 1000}-{limits.max_rate_hz // 1000} kHz; more than two channels are split",
    )
    return told.model_dump_json().encode()


@router.post("/response")
def response(body: Moves) -> Responses:
    """Return the response in dB of moves in series at the axis' frequencies."""
    return responses(tuple(body.moves), body.sample_rate_hz, amount=body.amount)


@router.post("/treatment/moves")
def moves_of_treatment(body: Treatment) -> list[Move]:
    """Return the moves of a treatment file, as they are at its amount: what a ledger takes them as."""
    return list(body.acting())
