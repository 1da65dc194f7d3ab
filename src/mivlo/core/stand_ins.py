"""Which stand-ins a session gets by what its tracks are: what is usually done to them later (common practice, no
source)."""

from collections.abc import Callable, Mapping

from mivlo.core.model.ledger import LedgerEntry
from mivlo.core.model.strips import Group, Track
from mivlo.core.moves import MOVE_KINDS, Move
from mivlo.core.roles import VOICES, Role

__all__ = ["entries_for", "room_group", "send_db_for"]

REASON = "stands for what is done later"
ROOM_NAME = "Room (stand-in)"
_PLUCKED: tuple[Role, ...] = ("acoustic guitar", "electric guitar", "keys")
_STRUCK: tuple[Role, ...] = ("kick", "snare", "toms", "cymbals", "drum kit", "hand percussion")
_COMPRESSION: Mapping[Role, tuple[str, ...]] = (
    dict.fromkeys(VOICES, ("firm", "crushed beside"))
    | dict.fromkeys(_PLUCKED, ("gentle",))
    | dict.fromkeys(_STRUCK, ("crushed beside",))
    | {"bass": ("firm",)}
)
_SEND_DB: Mapping[Role, float | None] = (
    dict.fromkeys(VOICES, -9.0) | dict.fromkeys(_STRUCK, -15.0) | {"kick": None, "bass": None, "full backing": None}
)
USUAL_COMPRESSION, USUAL_SEND_DB = ("gentle",), -12.0


def entries_for(track: Track, new_id: Callable[[str], str]) -> tuple[LedgerEntry, ...]:
    """Return what stands for the compression that a track will get.

    Parameters
    ----------
    new_id : makes an id of a name that differs for each of them

    Raises
    ------
    Nothing.

    Source: common practice, no source
    """
    starts = _COMPRESSION.get(track.role, USUAL_COMPRESSION)
    return tuple(
        LedgerEntry(id=new_id(f"{track.id}-{start}"), move=_started("compressor", start), reason=REASON)
        for start in starts
    )


def send_db_for(track: Track) -> float | None:
    """Return at which level a track is sent to the room; None: not at all. Raises nothing. Source: common practice."""
    return _SEND_DB.get(track.role, USUAL_SEND_DB)


def room_group(group_id: str, new_id: Callable[[str], str]) -> Group:
    """Return the one group that stands for the room; raises nothing. Source: ours."""
    move = _started("room", "plate", keeps_sound=False, wet_db=0.0)
    return Group(
        id=group_id, name=ROOM_NAME, stand_in=True, ledger=(LedgerEntry(id=new_id("room"), move=move, reason=REASON),)
    )


def _started(kind: str, label: str, **figures: object) -> Move:
    model = MOVE_KINDS[kind]
    start = next(start for start in model.starts if start.label == label)
    move: Move = model.model_validate(start.values | figures | {"stand_in": True})  # type: ignore[assignment]
    return move
