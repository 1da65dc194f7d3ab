"""What moves in series do at the frequencies of the axis, for those who draw them."""

import numpy as np
from pydantic import BaseModel

from mivlo.core.filters.linear_phase import has_linear_phase_form
from mivlo.core.moves import Move
from mivlo.core.moves.capabilities import FollowsLevel, Steady
from mivlo.core.spectra.average import AXIS_HZ
from mivlo.core.treatment import treatment_response

__all__ = ["MovingResponse", "Responses", "responses"]


class MovingResponse(BaseModel):
    """What one dynamic move does at its full depth."""

    index: int
    full_db: list[float]
    extent_db: float


class Responses(BaseModel):
    """What moves do always, and each of those that come and go at its full depth."""

    steady_db: list[float]
    moving: list[MovingResponse]
    without_linear_phase: list[int]  # steady moves too low and narrow for it, by index
    held_at_limit: list[int]  # moves that the amount would take beyond what their kind can, by index


def responses(moves: tuple[Move, ...], sample_rate_hz: int, *, amount: float = 100.0) -> Responses:
    """Return what moves in series do at an amount in per cent, at the frequencies of the axis below half the rate.

    Raises
    ------
    Nothing.

    Source: `treatment_response`
    """
    held = [index for index, move in enumerate(moves) if move.is_held_at(amount / 100.0)]
    moves = tuple(move.at_amount(amount / 100.0) for move in moves)
    if amount == 0.0:
        moves = tuple(move.model_copy(update={"on": False}) for move in moves)
    hz = np.minimum(AXIS_HZ, 0.4999 * sample_rate_hz)

    def curve_db(chosen: list[Move]) -> list[float]:
        h = np.abs(treatment_response(chosen, hz, sample_rate_hz))
        return [round(float(value), 3) for value in 20.0 * np.log10(np.maximum(h, 1e-6))]

    moving = [
        MovingResponse(index=index, full_db=curve_db([move.model_copy(update={"on": True})]), extent_db=move.extent_db)
        for index, move in enumerate(moves)
        if isinstance(move, FollowsLevel) and move.on
    ]
    return Responses(
        steady_db=curve_db([move for move in moves if isinstance(move, Steady)]),
        moving=moving,
        without_linear_phase=[
            index for index, move in enumerate(moves)
            if isinstance(move, Steady) and not has_linear_phase_form(move.sections(sample_rate_hz))
        ],
        held_at_limit=held,
    )  # fmt: skip
