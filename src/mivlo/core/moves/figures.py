"""What a form needs to know of each kind of move: its figures, their limits, units and starting values."""

from typing import Any

from pydantic import BaseModel

from mivlo.core.moves import MOVE_KINDS

__all__ = ["Figure", "MoveKind", "describe_kinds"]


class Figure(BaseModel):
    """One figure of a move as a form shows it."""

    name: str
    title: str
    unit: str
    minimum: float | None
    maximum: float | None
    choices: list[float]
    start: float | None


class MoveKind(BaseModel):
    """One kind of move as a form shows it."""

    kind: str
    label: str
    figures: list[Figure]


def describe_kinds() -> list[MoveKind]:
    """Return all kinds of the registry with their figures, read off their models."""
    return [
        MoveKind(kind=kind, label=model.label, figures=_figures(model.model_json_schema()["properties"]))
        for kind, model in MOVE_KINDS.items()
    ]


def _figures(properties: dict[str, dict[str, Any]]) -> list[Figure]:
    """Return the figures among a model's properties: those that have a unit and are kept (q, not its other name)."""
    return [
        Figure(
            name=name,
            title=field["title"],
            unit=field["unit"],
            minimum=field.get("minimum"),
            maximum=field.get("maximum"),
            choices=field.get("enum", []),
            start=field.get("default"),
        )
        for name, field in properties.items()
        if "unit" in field and name != "width_octaves"
    ]
