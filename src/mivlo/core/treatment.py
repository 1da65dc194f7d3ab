"""The treatment: moves in order, as a file that anybody can read and write."""

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any, Literal, Protocol

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from mivlo.core.errors import TreatmentError
from mivlo.core.moves import MOVE_KINDS, Move
from mivlo.core.moves.capabilities import Responds
from mivlo.core.moves.figures import describe_kinds
from mivlo.core.units import Array

__all__ = ["Treatment", "explain_validation", "parse_treatment", "read_treatment", "treatment_response"]


class ExplainableError(Protocol):
    """What Pydantic and FastAPI raise for wrong data."""

    def errors(self) -> Sequence[Any]:
        """Return the details of each fault."""


class Treatment(BaseModel):
    """Moves in the order in which they act."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    mivlo_treatment: Literal[1]
    amount: float = Field(
        default=100.0, ge=0.0, le=150.0, description="per cent: all moves nearer to nothing, or further"
    )
    moves: tuple[Move, ...] = Field(default=(), max_length=200)

    def acting(self) -> tuple[Move, ...]:
        """Return the moves as they are at the amount; none at 0."""
        return tuple(move.at_amount(self.amount / 100.0) for move in self.moves) if self.amount else ()


def read_treatment(path: Path) -> Treatment:
    """Return the treatment in a file.

    Raises
    ------
    TreatmentError: no such file, not JSON, or figures out of range (with the field's path and its range)
    """
    try:
        text = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise TreatmentError(f"{path}: cannot be read as a treatment ({error})") from error
    return parse_treatment(text, name=str(path))


def parse_treatment(text: str, *, name: str) -> Treatment:
    """Return the treatment in a JSON text; raises TreatmentError as `read_treatment`, naming the text."""
    try:
        data = json.loads(text)
    except (json.JSONDecodeError, RecursionError) as error:
        raise TreatmentError(f"{name}: not JSON ({error})") from error
    try:
        return Treatment.model_validate(data)
    except ValidationError as error:
        raise TreatmentError(f"{name}: {explain_validation(error)}") from error


def explain_validation(error: ExplainableError) -> str:
    """Return one line that names each wrong field by its path, with its value and what would be right."""
    return "; ".join(_explain_one(detail) for detail in error.errors())


def _explain_one(detail: Any) -> str:
    """Return one wrong field: its path, what would be right, and what was given."""
    path = ".".join(str(part) for part in detail["loc"] if part not in MOVE_KINDS) or "the whole"
    if detail["type"] == "extra_forbidden":
        return f"{path}: unknown field"
    if detail["type"] == "missing":
        return f"{path}: missing"
    message = detail["msg"].removeprefix("Value error, ")
    message = message[0].lower() + message[1:]
    given = detail.get("input")
    shown = "" if isinstance(given, dict | list) else f", but is {given!r:.60}"
    return f"{path}: {message}{shown}{_range_of(detail)}"


def _range_of(detail: Any) -> str:
    """Return the whole allowed range of a figure of a move whose one limit was passed."""
    if detail["type"] not in ("greater_than_equal", "less_than_equal"):
        return ""
    for kind in describe_kinds():
        for figure in kind.figures:
            if kind.kind in detail["loc"] and figure.name == detail["loc"][-1]:
                return f" (allowed: {figure.minimum:g} to {figure.maximum:g} {figure.unit})"
    return ""


def treatment_response(moves: Sequence[Move], freqs_hz: Array, sample_rate_hz: float) -> NDArray[np.complex128]:
    """Return the (bins,) response of all moves that are on, on what each acts on, dynamic ones at their full depth.

    Raises
    ------
    ParameterError: a move that does not fit the rate
    """
    total = np.ones(freqs_hz.shape, dtype=np.complex128)
    for move in moves:
        if move.on and isinstance(move, Responds):
            total *= move.response(freqs_hz, sample_rate_hz)
    return total
