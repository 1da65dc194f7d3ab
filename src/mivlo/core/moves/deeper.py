"""The same move, deeper: as far as its kind goes."""

import numpy as np

from mivlo.core.moves import MOVE_KINDS, Move
from mivlo.core.moves.figures import meanings_of

__all__ = ["deepened"]


def deepened(move: Move, by_db: float) -> Move | None:
    """Return a move that takes more by so many dB, as far as its kind goes; None for one without a depth.

    Raises nothing. Source: ours
    """
    name = meanings_of(type(move)).get("gain")
    if name is None:
        return None
    lowest = MOVE_KINDS[move.kind].model_json_schema()["properties"][name].get("minimum", -np.inf)
    wanted = round(max(getattr(move, name) - by_db, lowest), 1)
    return type(move).model_validate(move.model_dump() | {name: wanted})
