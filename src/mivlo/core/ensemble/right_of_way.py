"""Right of way: who goes first where two tracks want the same region."""

from collections.abc import Sequence

import numpy as np

from mivlo.core.model import RightOfWay
from mivlo.core.roles import Role

__all__ = ["complete_order", "first_order", "goes_first", "same_region", "yield_limit_db"]

# Common practice, no source: the voice tells the story, drums and bass carry it, held and filling parts make room.
PRECEDENCE: tuple[Role, ...] = (
    "lead voice",
    "snare",
    "kick",
    "drum kit",
    "bass",
    "electric guitar",
    "brass",
    "reeds",
    "woodwind",
    "strings",
    "acoustic guitar",
    "keys",
    "toms",
    "backing voice",
    "hand percussion",
    "cymbals",
    "other",
    "full backing",
)
YIELD_LIMIT_DB, BACKING_LIMIT_DB = (
    4.0,
    1.0,
)  # of a single track, of a finished backing: more only if the user goes further
SAME_SHARE = 0.5  # of the shorter of two regions in common: they are the same place


def first_order(roles: Sequence[Role | None]) -> list[int]:
    """Return the numbers of tracks in a sensible first order, those that go first in front; the user changes it.

    Raises
    ------
    Nothing.
    """
    return sorted(range(len(roles)), key=lambda index: (PRECEDENCE.index(roles[index] or "other"), index))


def complete_order(order: Sequence[str], ids: Sequence[str], roles: Sequence[Role | None]) -> list[str]:
    """Return all ids in the user's order; those that it does not name behind, in the first order. Raises nothing."""
    known = [one for one in order if one in ids]
    return [*known, *(ids[index] for index in first_order(roles) if ids[index] not in known)]


def same_region(low_hz: float, high_hz: float, other_low_hz: float, other_high_hz: float) -> bool:
    """Tell whether two regions have most of the shorter one in common. Raises nothing."""
    common = np.log2(min(high_hz, other_high_hz) / max(low_hz, other_low_hz))
    return bool(common >= SAME_SHARE * min(np.log2(high_hz / low_hz), np.log2(other_high_hz / other_low_hz)))


def goes_first(
    rights: RightOfWay, order: Sequence[str], one: str, other: str, *, low_hz: float, high_hz: float
) -> str | None:
    """Return which of two goes first in a region; None: both stay.

    Parameters
    ----------
    order : complete, as of `complete_order`

    Raises
    ------
    Nothing.
    """
    for rule in reversed(rights.exceptions):
        if {rule.one, rule.other} == {one, other} and same_region(low_hz, high_hz, rule.low_hz, rule.high_hz):
            return rule.first
    return min(one, other, key=order.index)


def yield_limit_db(role: Role | None) -> float:
    """Return how many dB a track of a role yields by itself."""
    return BACKING_LIMIT_DB if role == "full backing" else YIELD_LIMIT_DB
