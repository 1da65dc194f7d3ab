"""What a form needs to know of each kind of move: its figures, their limits, units, starting values and ready-made
starts."""

from functools import cache
from typing import Any, Literal

from pydantic import BaseModel, JsonValue

from mivlo.core.moves import MOVE_KINDS
from mivlo.core.moves.base import BaseMove, Family

__all__ = ["Figure", "Meaning", "MoveKind", "ReadyStart", "describe_kinds", "meanings_of", "shown_figures"]

Control = Literal["number", "choice", "switch", "members", "listens", "places"]
Meaning = Literal[
    "place", "low edge", "high edge", "gain", "amount", "width", "sharpness", "slope", "key", "decay", "delay"
]
NOT_FIGURES = ("kind", "on", "stand_in", "width_octaves", "times_s")


class Figure(BaseModel):
    """One figure of a move as a form shows it."""

    name: str
    title: str
    help: str
    control: Control
    unit: str
    minimum: float | None
    maximum: float | None
    choices: list[str | float]
    optional: bool
    empty: str  # what a figure that is left out stands for
    start: JsonValue
    group: Literal["main", "more", "key"]
    when: str  # "name" of a figure that must be set, "name=value" or "name!=value"; empty: always shown
    on_level: bool  # set on the live level of what the move listens to
    means: Meaning | None


class ReadyStart(BaseModel):
    """A ready-made start: plain values that the user sees and can change."""

    label: str
    summary: str
    values: dict[str, JsonValue]


class MoveKind(BaseModel):
    """One kind of move as a form shows it."""

    kind: str
    label: str
    summary: str
    family: Family
    adds_only: bool  # nothing of the sound is less by it: it has no offcuts
    figures: list[Figure]
    starts: list[ReadyStart]


def describe_kinds() -> list[MoveKind]:
    """Return all kinds of the registry with their figures, read off their models."""
    return [
        MoveKind(
            kind=kind,
            label=model.label,
            summary=model.summary,
            family=model.family,
            adds_only=model.adds_only,
            figures=_figures(model.model_json_schema()["properties"]),
            starts=[ReadyStart(label=one.label, summary=one.summary, values=one.values) for one in model.starts],
        )
        for kind, model in MOVE_KINDS.items()
    ]


@cache
def meanings_of(model: type[BaseMove]) -> dict[Meaning, str]:
    """Return the names of a kind's figures by what they mean; raises nothing. Source: the model's own schema."""
    return {figure.means: figure.name for figure in _figures_of(model) if figure.means is not None}


def shown_figures(move: BaseMove) -> list[Figure]:
    """Return the figures that say something of a move as it stands; raises nothing. Source: the model's own schema."""
    return [figure for figure in _figures_of(type(move)) if _holds(figure.when, move)]


@cache
def _figures_of(model: type[BaseMove]) -> tuple[Figure, ...]:
    return tuple(_figures(model.model_json_schema()["properties"]))


def _holds(when: str, move: BaseMove) -> bool:
    name, is_other, value = when.partition("!=")
    if not is_other:
        name, is_so, value = when.partition("=")
        if not is_so:
            return not name or getattr(move, name) is not None
    return (str(getattr(move, name)) == value) != bool(is_other)


def _figures(properties: dict[str, dict[str, Any]]) -> list[Figure]:
    figures = [_figure(name, field) for name, field in properties.items() if name not in NOT_FIGURES]
    # What every move has alike, the channel, stands last: it is seldom touched.
    return sorted(figures, key=lambda figure: figure.name == "channel")


def _figure(name: str, field: dict[str, Any]) -> Figure:
    shape = next((one for one in field.get("anyOf", []) if one.get("type") != "null"), field)
    choices = shape.get("enum", [])
    control: Control = field.get("control") or (
        "choice" if choices else "switch" if shape.get("type") == "boolean" else "number"
    )
    return Figure(
        name=name,
        title=field["title"],
        help=field.get("description", ""),
        control=control,
        unit=field.get("unit", shape.get("unit", "")),
        minimum=shape.get("minimum"),
        maximum=shape.get("maximum"),
        choices=choices,
        optional="anyOf" in field,
        empty=field.get("empty", "off" if "anyOf" in field else ""),
        start=field.get("default"),
        group=field.get("group", "main"),
        when=field.get("when", ""),
        on_level=field.get("meter") == "level",
        means=field.get("means", shape.get("means")),
    )
