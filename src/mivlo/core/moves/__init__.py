"""The registry of moves: a new kind is one file here, plus its name in the union and in the registry."""

from typing import Annotated

from pydantic import Field

from mivlo.core.moves.air import Air
from mivlo.core.moves.base import BaseMove, StaticMove
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.compressor import Compressor
from mivlo.core.moves.drive import Drive
from mivlo.core.moves.dynamic import DynamicMove
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.moves.dynamic_flat_bell import DynamicFlatBell
from mivlo.core.moves.dynamic_high_shelf import DynamicHighShelf
from mivlo.core.moves.dynamic_low_cut import DynamicLowCut
from mivlo.core.moves.dynamic_low_shelf import DynamicLowShelf
from mivlo.core.moves.flat_bell import FlatBell
from mivlo.core.moves.high_cut import HighCut
from mivlo.core.moves.high_shelf import HighShelf
from mivlo.core.moves.low_cut import LowCut
from mivlo.core.moves.low_shelf import LowShelf
from mivlo.core.moves.notch import Notch
from mivlo.core.moves.note_family import NoteFamily
from mivlo.core.moves.plane import Plane
from mivlo.core.moves.room import Room
from mivlo.core.moves.trim import Trim
from mivlo.core.moves.warmth import Warmth

__all__ = ["MOVE_KINDS", "DynamicMove", "Move", "StaticMove"]

Move = Annotated[
    Bell | FlatBell | LowShelf | HighShelf | LowCut | HighCut | Notch | NoteFamily
    | DynamicBell | DynamicFlatBell | DynamicLowShelf | DynamicHighShelf | DynamicLowCut | Plane
    | Compressor | Room | Trim | Drive | Warmth | Air,
    Field(discriminator="kind"),
]  # fmt: skip

MOVE_KINDS: dict[str, type[BaseMove]] = {
    "bell": Bell,
    "flat-bell": FlatBell,
    "low-cut": LowCut,
    "high-cut": HighCut,
    "low-shelf": LowShelf,
    "high-shelf": HighShelf,
    "notch": Notch,
    "note-family": NoteFamily,
    "dynamic-bell": DynamicBell,
    "dynamic-flat-bell": DynamicFlatBell,
    "dynamic-low-shelf": DynamicLowShelf,
    "dynamic-high-shelf": DynamicHighShelf,
    "dynamic-low-cut": DynamicLowCut,
    "plane": Plane,
    "compressor": Compressor,
    "room": Room,
    "trim": Trim,
    "drive": Drive,
    "warmth": Warmth,
    "air": Air,
}
