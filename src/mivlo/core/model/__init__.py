"""What a session is: declared once, and used by the engine, the database, the API and, generated, by the page."""

from mivlo.core.model.base import Frozen, refuse_twins
from mivlo.core.model.ledger import (
    TREATMENTS,
    Behaviour,
    ClashReason,
    Evidence,
    Keeper,
    LedgerEntry,
    LedgerState,
    Phase,
    Region,
    Treatment,
    TreatmentName,
    keys_of,
)
from mivlo.core.model.marks import Dismissed, Judged, Pin, Remark, Section
from mivlo.core.model.recorded import Audio, FileMarker, RecordedSession
from mivlo.core.model.references import Reference
from mivlo.core.model.rights import RegionRule, RightOfWay
from mivlo.core.model.routing import Route, groups_in_order, members_under, parents_of, routes_of, sources_of
from mivlo.core.model.session import MIX_ID, Session
from mivlo.core.model.strips import Group, LaterVersion, Send, Strip, StripBase, Track

__all__ = [
    "MIX_ID",
    "TREATMENTS",
    "Audio",
    "Behaviour",
    "ClashReason",
    "Dismissed",
    "Evidence",
    "FileMarker",
    "Frozen",
    "Group",
    "Judged",
    "Keeper",
    "LaterVersion",
    "LedgerEntry",
    "LedgerState",
    "Phase",
    "Pin",
    "RecordedSession",
    "Reference",
    "Region",
    "RegionRule",
    "Remark",
    "RightOfWay",
    "Route",
    "Section",
    "Send",
    "Session",
    "Strip",
    "StripBase",
    "Track",
    "Treatment",
    "TreatmentName",
    "groups_in_order",
    "keys_of",
    "members_under",
    "parents_of",
    "refuse_twins",
    "routes_of",
    "sources_of",
]
