"""Hunt: suspects with their evidence, and what became of them."""

from typing import Annotated

from fastapi import APIRouter, Query

from mivlo.core.cellar import PileUp
from mivlo.core.finder.pins import PinAnswers
from mivlo.core.finder.survey import DEFAULT_AMOUNT
from mivlo.server.api.common import Now, Problem
from mivlo.server.services import hunt

__all__ = ["router"]

router = APIRouter(
    prefix="/api/sessions/{session_id}", tags=["hunt"], responses={404: {"model": Problem}, 422: {"model": Problem}}
)


@router.get("/cellar")
def cellar(now: Now) -> hunt.CellarView:
    """Return the low end of every track, and how high each may be cut."""
    return hunt.cellar_of(now)


@router.post("/cellar/pile-up")
def pile_up(now: Now, chosen: hunt.ChosenCuts) -> PileUp:
    """Return how the lows of all tracks add up beside what bass and kick need, before and after the chosen cuts."""
    return hunt.pile_up_of(now, chosen.cuts)


@router.get("/strips/{strip_id}/suspects")
def suspects(
    now: Now, strip_id: str, start_s: Annotated[float, Query(ge=0.0)], end_s: Annotated[float, Query(gt=0.0)]
) -> hunt.Suspects:
    """Return what behaves like a fault in a stretch of a track, a group or the mix, strongest first."""
    return hunt.suspects_of(now, strip_id, start_s=start_s, end_s=end_s)


@router.get("/strips/{strip_id}/survey")
def survey(
    now: Now,
    strip_id: str,
    start_s: Annotated[float, Query(ge=0.0)],
    end_s: Annotated[float, Query(gt=0.0)],
    low_hz: Annotated[float, Query(ge=20.0, le=20_000.0)] = 150.0,
    high_hz: Annotated[float, Query(ge=20.0, le=20_000.0)] = 10_000.0,
    amount: Annotated[float, Query(ge=0.0, le=100.0)] = DEFAULT_AMOUNT,
) -> list[hunt.SurveyCut]:
    """Return shallow cuts at what belongs to no note played."""
    return hunt.survey_of(now, strip_id, start_s=start_s, end_s=end_s, low_hz=low_hz, high_hz=high_hz, amount=amount)


@router.get("/strips/{strip_id}/pin-answers")
def pin_answers(
    now: Now,
    strip_id: str,
    hz: Annotated[float, Query(ge=20.0, le=20_000.0)],
    width_octaves: Annotated[float, Query(ge=0.02, le=3.0)],
    excess_db: Annotated[float | None, Query(ge=-200.0, le=200.0)] = None,
) -> PinAnswers:
    """Return what may be said to a pin: a cut, a move that acts only in the loud moments, and what is kept."""
    return hunt.pin_answers_of(now, strip_id, hz=hz, width_octaves=width_octaves, excess_db=excess_db)


@router.get("/strips/{strip_id}/pitch")
def pitch(now: Now, strip_id: str) -> hunt.PitchView:
    """Return the pitch line of a track with one voice."""
    return hunt.pitch_of(now, strip_id)


@router.get("/strips/{strip_id}/cures/{entry_id}")
def cure(now: Now, strip_id: str, entry_id: str) -> hunt.CureView:
    """Return what became of the suspect that a move answers."""
    return hunt.cure_of(now, strip_id, entry_id)


@router.get("/strips/{strip_id}/losses/{entry_id}")
def loss(now: Now, strip_id: str, entry_id: str) -> hunt.RegionLoss | None:
    """Return how much of the track's own loudness around a move is gone; null for one that is meant to clear all
    away."""
    return hunt.loss_of(now, strip_id, entry_id)
