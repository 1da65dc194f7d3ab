"""What a row of the round is, and what it is looked up in."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from pydantic import BaseModel

from mivlo.core.analyses.base import AnyAnalysis, Known, Need
from mivlo.core.analyses.ensemble import ClashView
from mivlo.core.analyses.plan import PlanView
from mivlo.core.analyses.relations import TrackRelation
from mivlo.core.analyses.suspects import SuspectView
from mivlo.core.ensemble.in_mix import HeardAs
from mivlo.core.errors import MivloError
from mivlo.core.model import RecordedSession
from mivlo.core.moves import Move
from mivlo.core.moves.low_cut import LowCut

__all__ = ["CellarCutOf", "Lookup", "RoundRow", "RoundView", "StripSuspect", "cents", "joined"]

RowKind = Literal["suspect", "clash", "plan", "cellar", "comes-back", "tracks", "file", "remark"]
Status = Literal["to judge", "done", "later"]


class StripSuspect(BaseModel):
    """A suspect of a strip."""

    strip_id: str
    suspect: SuspectView


class CellarCutOf(BaseModel):
    """A low cut that is proposed for a track."""

    strip_id: str
    move: LowCut


class RoundRow(BaseModel):
    """One thing to be judged: `sentence` says it, with what it hangs on beside it; the longest lists first.

    `weight` is where it stands; `loop_s` where it is heard best; `outcome` what became of it once it is answered, which
    `is_measuring` says is not known yet.
    """

    id: str
    kind: RowKind
    status: Status
    weight: float
    strip_ids: list[str]
    sentence: str
    evidence: str
    proposes: str = ""
    outcome: str = ""
    is_measuring: bool = False
    sureness: str = ""
    confidence: float | None = None
    hz: float | None = None
    low_hz: float | None = None
    high_hz: float | None = None
    heard: HeardAs | None = None
    change_db: float | None = None
    in_mix_db: float | None = None
    covered_by: str | None = None
    loop_s: tuple[float, float] | None = None
    suspects: list[StripSuspect] = []
    clash: ClashView | None = None
    relation: TrackRelation | None = None
    deeper: Move | None = None
    cellar: list[CellarCutOf] = []
    entries: list[tuple[str, str]] = []  # strip and move that answer it


class RoundView(BaseModel):
    """All rows, those to judge first; how many questions are still being listened to; the plan of the fewest cuts."""

    rows: list[RoundRow]
    waiting: int
    of: int
    plan: PlanView | None
    folded_clashes: int


@dataclass(frozen=True, slots=True)
class Lookup:
    """Looks up what is known of a session, and counts what is not."""

    session: RecordedSession
    known: Known
    missing: list[str]
    asked: list[str]

    def shown(self, analysis: AnyAnalysis, asked: BaseModel, *, waits: bool = True) -> Any:
        """Return what a page would be shown, or None; `waits`: the list is not complete without it."""
        try:
            params = analysis.question(self.session, asked, self.known)
        except MivloError:
            return None
        result = self.known(Need(analysis, params))
        if waits:
            self.asked.append(analysis.name)
        if result is None:
            if waits:
                self.missing.append(analysis.name)
            return None
        return analysis.show(self.session, asked, params, result)


def cents(hz: float, other_hz: float) -> float:
    """Return how far two frequencies are apart. Raises nothing. Source: ours."""
    return float(abs(1_200.0 * np.log2(hz / other_hz)))


def joined(names: Sequence[str]) -> str:
    """Return names as they stand in a sentence. Raises nothing. Source: ours."""
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
