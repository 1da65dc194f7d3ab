"""Right of way: who goes first where two tracks want the same region."""

from collections.abc import Sequence

from mivlo.core.roles import Role

__all__ = ["YIELD_LIMIT_DB", "first_order", "yield_limit_db"]

# Common practice, no source: the voice tells the story, drums and bass carry it, held and filling parts make room.
PRECEDENCE: tuple[Role, ...] = (
    "lead voice", "snare", "kick", "bass", "electric guitar", "brass", "reeds", "strings", "acoustic guitar", "keys", "toms",
    "backing voice", "hand percussion", "cymbals", "other", "full backing",
)  # fmt: skip
YIELD_LIMIT_DB, BACKING_LIMIT_DB = 4.0, 1.0  # of a single track, of a finished backing: more only if the user goes further


def first_order(roles: Sequence[Role | None]) -> list[int]:
    """Return the numbers of tracks in a sensible first order, those that go first in front; the user changes it.

    Raises
    ------
    Nothing.
    """
    return sorted(range(len(roles)), key=lambda index: (PRECEDENCE.index(roles[index] or "other"), index))


def yield_limit_db(role: Role | None) -> float:
    """Return how many dB a track of a role yields by itself."""
    return BACKING_LIMIT_DB if role == "full backing" else YIELD_LIMIT_DB
