"""What can be wanted of a session: one class an intent, and the registry of them all."""

from collections.abc import Sequence
from typing import Annotated

from pydantic import Field

from mivlo.core.model.intents.base import Intent
from mivlo.core.model.intents.ledgers import AddMove, AnswerPin, AnswerSuspect, RemoveMove, SetLedger, SetMove
from mivlo.core.model.intents.references import RemoveReference, SetReference
from mivlo.core.model.intents.song import (
    AddSection,
    AnswerClash,
    JudgeRow,
    RemoveRule,
    RemoveSection,
    SetLoop,
    SetOrder,
    SetSession,
)
from mivlo.core.model.intents.stand_ins import CameBack, DraftStandIns, RemoveStandIns
from mivlo.core.model.intents.strips import (
    AddGroup,
    AddKeeper,
    AddPin,
    AddRemark,
    PairTracks,
    RemoveGroup,
    RemoveKeeper,
    RemovePin,
    RemoveRemark,
    RemoveTrack,
    SetGroup,
    SetSend,
    SetTrack,
    UnpairTrack,
)
from mivlo.core.model.intents.treatments import (
    AddTreatment,
    CopyLedgers,
    KeepTreatment,
    RemoveTreatment,
    SetTreatment,
)
from mivlo.core.model.session import Session

__all__ = ["AnyIntent", "Intent", "apply_all"]

AnyIntent = Annotated[
    AddMove
    | SetMove
    | RemoveMove
    | SetLedger
    | AnswerSuspect
    | AnswerPin
    | SetTrack
    | SetGroup
    | SetSend
    | RemoveTrack
    | AddGroup
    | RemoveGroup
    | PairTracks
    | UnpairTrack
    | AddPin
    | RemovePin
    | AddRemark
    | RemoveRemark
    | AddKeeper
    | RemoveKeeper
    | SetSession
    | SetLoop
    | AddSection
    | RemoveSection
    | AnswerClash
    | RemoveRule
    | JudgeRow
    | SetOrder
    | DraftStandIns
    | CameBack
    | RemoveStandIns
    | AddTreatment
    | SetTreatment
    | CopyLedgers
    | KeepTreatment
    | RemoveTreatment
    | SetReference
    | RemoveReference,
    Field(discriminator="do"),
]


def apply_all(session: Session, intents: Sequence[Intent]) -> Session:
    """Return the session with all intents applied, each on what those before it have made.

    Raises
    ------
    As `Intent.apply`.
    """
    for intent in intents:
        session = intent.apply(session)
    return session
