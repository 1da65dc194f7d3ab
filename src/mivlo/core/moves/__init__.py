"""The registry of moves: a new kind is one file here, plus its name in the union and in the registry."""

from typing import Annotated

from pydantic import Field

from mivlo.core.moves.base import StaticMove
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.high_cut import HighCut
from mivlo.core.moves.high_shelf import HighShelf
from mivlo.core.moves.low_cut import LowCut
from mivlo.core.moves.low_shelf import LowShelf
from mivlo.core.moves.notch import Notch

__all__ = ["MOVE_KINDS", "Move", "StaticMove"]

Move = Annotated[Bell | LowShelf | HighShelf | LowCut | HighCut | Notch, Field(discriminator="kind")]

MOVE_KINDS: dict[str, type[StaticMove]] = {
    "bell": Bell,
    "low-cut": LowCut,
    "high-cut": HighCut,
    "low-shelf": LowShelf,
    "high-shelf": HighShelf,
    "notch": Notch,
}
