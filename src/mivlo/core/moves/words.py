"""Moves in words: what they are, and what is changed of one."""

from mivlo.core.moves import Move
from mivlo.core.moves.capabilities import Placed
from mivlo.core.moves.figures import meanings_of
from mivlo.core.units import hz_text

__all__ = ["change_text", "move_text", "named_move"]


def move_text(move: Move) -> str:
    """Return a move in words: its place, what it is, and by how much. Raises nothing. Source: ours."""
    return f"{named_move(move)}{_by(move)}"


def named_move(move: Move) -> str:
    """Return which move it is, by its place and kind. Raises nothing. Source: ours."""
    place = f"{hz_text(move.place_hz)} " if isinstance(move, Placed) else ""
    return f"{place}{move.label.lower()}"


def _by(move: Move) -> str:
    name = meanings_of(type(move)).get("gain")
    return "" if name is None else f", {_signed(getattr(move, name))} dB"


def change_text(was: Move, now: Move) -> str:
    """Return in words which figures of a move are others; of another kind, that it is. Raises nothing. Source: ours."""
    if type(was) is not type(now):
        return f"a {named_move(now)} instead of the {named_move(was)}"
    if was.on != now.on:
        return f"the {named_move(now)} {'on' if now.on else 'off'}"
    names = [name for name in type(now).model_fields if getattr(now, name) != getattr(was, name)]
    changes = []
    for name in names:
        title = type(now).model_fields[name].title or name
        unit = name.rpartition("_")[2].replace("db", "dB").replace("hz", "Hz") if "_" in name else ""
        changes.append(
            f"{title.lower()} {_shown(getattr(now, name))} instead of {_shown(getattr(was, name))} {unit}".rstrip()
        )
    return f"the {named_move(was)}: {', '.join(changes)}"


def _shown(value: object) -> str:
    if isinstance(value, float):
        return f"{value:.4g}".replace("-", "\u2212")
    return "none" if value in (None, (), "") else str(value)


def _signed(value: float) -> str:
    return f"{value:+.1f}".replace("-", "\u2212")
