"""What two treatments do differently, in words."""

from collections.abc import Iterator

from pydantic import BaseModel

from mivlo.core.model import LedgerState, Session
from mivlo.core.moves import Move
from mivlo.core.moves.capabilities import Placed
from mivlo.core.moves.figures import meanings_of
from mivlo.core.units import hz_text

__all__ = ["Difference", "differences", "move_text"]


class Difference(BaseModel):
    """What one treatment does otherwise to a track, a group or the mix than the other one."""

    strip_id: str
    name: str
    sentences: list[str]


def differences(one: Session, other: Session) -> list[Difference]:
    """Return what the other of two treatments of a session does otherwise, strip by strip.

    Raises
    ------
    Nothing.

    Source: ours
    """
    found = []
    known = {strip.id: strip for strip in one.strips()}
    for strip in other.strips():
        if strip.id in known and (sentences := list(_of_strip(known[strip.id], strip))):
            found.append(Difference(strip_id=strip.id, name=strip.name, sentences=sentences))
    return found


def _of_strip(was: LedgerState, now: LedgerState) -> Iterator[str]:
    before = {entry.id: entry.move for entry in was.ledger}
    after = {entry.id: entry.move for entry in now.ledger}
    for entry_id, move in before.items():
        if entry_id not in after:
            yield f"without the {_named(move)}"
    for entry_id, move in after.items():
        if entry_id not in before:
            yield f"with a {move_text(move)}"
        elif move != before[entry_id]:
            yield _changed(before[entry_id], move)
    if was.ledger_on != now.ledger_on:
        yield "all its moves on" if now.ledger_on else "all its moves off"
    if was.amount != now.amount:
        yield f"amount {now.amount:.0f} instead of {was.amount:.0f} %"
    if was.phase != now.phase:
        yield f"{now.phase} phase"


def move_text(move: Move) -> str:
    """Return a move in words: its place, what it is, and by how much. Raises nothing. Source: ours."""
    return f"{_named(move)}{_by(move)}"


def _named(move: Move) -> str:
    place = f"{hz_text(move.place_hz)} " if isinstance(move, Placed) else ""
    return f"{place}{move.label.lower()}"


def _by(move: Move) -> str:
    name = meanings_of(type(move)).get("gain")
    return "" if name is None else f", {_signed(getattr(move, name))} dB"


def _changed(was: Move, now: Move) -> str:
    """Return in words which figures of a move are others; of another kind, that it is."""
    if type(was) is not type(now):
        return f"a {_named(now)} instead of the {_named(was)}"
    if was.on != now.on:
        return f"the {_named(now)} {'on' if now.on else 'off'}"
    names = [name for name in type(now).model_fields if getattr(now, name) != getattr(was, name)]
    changes = []
    for name in names:
        title = type(now).model_fields[name].title or name
        unit = name.rpartition("_")[2].replace("db", "dB").replace("hz", "Hz") if "_" in name else ""
        changes.append(
            f"{title.lower()} {_shown(getattr(now, name))} instead of {_shown(getattr(was, name))} {unit}".rstrip()
        )
    return f"the {_named(was)}: {', '.join(changes)}"


def _shown(value: object) -> str:
    if isinstance(value, float):
        return f"{value:.4g}".replace("-", "\u2212")
    return "none" if value in (None, (), "") else str(value)


def _signed(value: float) -> str:
    return f"{value:+.1f}".replace("-", "\u2212")
