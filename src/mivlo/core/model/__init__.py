"""What a session is: declared once, and used by the engine, the database, the API and, generated, by the page."""

from mivlo.core.model.base import Frozen, refuse_twins
from mivlo.core.model.ledger import (
    Behaviour,
    ClashReason,
    Evidence,
    Keeper,
    LedgerEntry,
    Phase,
    Region,
    Treatment,
)
from mivlo.core.model.marks import Dismissed, Pin, Section
from mivlo.core.model.rights import RegionRule, RightOfWay
from mivlo.core.model.session import MIX_ID, Session
from mivlo.core.model.strips import Group, Strip, StripBase, Track

__all__ = [
    "MIX_ID",
    "Behaviour",
    "ClashReason",
    "Dismissed",
    "Evidence",
    "Frozen",
    "Group",
    "Keeper",
    "LedgerEntry",
    "Phase",
    "Pin",
    "Region",
    "RegionRule",
    "RightOfWay",
    "Section",
    "Session",
    "Strip",
    "StripBase",
    "Track",
    "Treatment",
    "refuse_twins",
]
