"""What two treatments do differently, in words."""

from collections.abc import Iterator

from pydantic import BaseModel

from mivlo.core.model import LedgerState, Session
from mivlo.core.moves.words import change_text, move_text, named_move

__all__ = ["Difference", "differences"]


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
            yield f"without the {named_move(move)}"
    for entry_id, move in after.items():
        if entry_id not in before:
            yield f"with a {move_text(move)}"
        elif move != before[entry_id]:
            yield change_text(before[entry_id], move)
    if was.ledger_on != now.ledger_on:
        yield "all its moves on" if now.ledger_on else "all its moves off"
    if was.amount != now.amount:
        yield f"amount {now.amount:.0f} instead of {was.amount:.0f} %"
    if was.phase != now.phase:
        yield f"{now.phase} phase"
