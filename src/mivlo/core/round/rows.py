"""The rows of the round: all that is to be judged over a session, as far as it is known, each in one sentence."""

from collections.abc import Iterator
from typing import Literal

from pydantic import BaseModel

from mivlo.core.analyses.base import AnyAnalysis, Known, OfSession, OfStrip
from mivlo.core.analyses.cures import AskedMove
from mivlo.core.analyses.ensemble import Ensembles, EnsembleView
from mivlo.core.analyses.plan import AskedPlan, Plans, PlanView
from mivlo.core.analyses.suspects import AskedStretch
from mivlo.core.model import RecordedSession
from mivlo.core.round.others import (
    CELLARS,
    FILES,
    PRESSURES,
    RELATIONS,
    between_tracks,
    of_cellar,
    of_clashes,
    of_file,
    of_pressure,
    of_remarks,
)  # fmt: skip
from mivlo.core.round.row import Lookup, RoundRow, RoundView
from mivlo.core.round.suspects import CURES, IN_MIX, MOVES_IN_MIX, SUSPECTS, of_group, of_marks, of_suspects, shared

__all__ = ["last_questions", "later_questions", "round_questions", "round_rows"]

_ENSEMBLES, _PLANS = Ensembles(), Plans()


def round_questions(session: RecordedSession) -> Iterator[tuple[AnyAnalysis, BaseModel]]:
    """Yield what must be known for the rows of a session, what is seen first at the front. Raises nothing."""
    for track in session.tracks:
        yield SUSPECTS, AskedStretch(strip_id=track.id)
    for track in session.tracks:
        yield IN_MIX, OfStrip(strip_id=track.id)
        yield FILES, OfStrip(strip_id=track.id)
    yield CELLARS, OfSession()
    if len(session.tracks) > 1:
        yield _ENSEMBLES, OfSession()
        yield RELATIONS, OfSession()
    for track in session.tracks:
        for entry in track.lasting_ledger:
            if entry.evidence is not None:
                asked = AskedMove(strip_id=track.id, entry_id=entry.id)
                yield CURES, asked
        if session.stands_in():
            yield PRESSURES, OfStrip(strip_id=track.id)


def last_questions(session: RecordedSession) -> Iterator[tuple[AnyAnalysis, BaseModel]]:
    """Yield what must be known as well, but takes so long that each track's rows come first. Raises nothing."""
    if len(session.tracks) > 1:
        yield _PLANS, AskedPlan()


def later_questions(session: RecordedSession) -> Iterator[tuple[AnyAnalysis, BaseModel]]:
    """Yield what rows tell as well once it is known, and nobody waits for: what each move does to the mix, and what
    stands out of groups, which sound otherwise after every edit. Raises nothing."""
    for track in session.tracks:
        for entry in track.lasting_ledger:
            if entry.evidence is not None:
                yield MOVES_IN_MIX, AskedMove(strip_id=track.id, entry_id=entry.id)
    for group in (*session.lasting_groups, session.master):
        yield SUSPECTS, AskedStretch(strip_id=group.id)


def round_rows(session: RecordedSession, known: Known) -> RoundView:
    """Return the rows of a session as far as they are known.

    Parameters
    ----------
    known : looks up results that are kept

    Raises
    ------
    Nothing.

    Source: ours
    """
    lookup = Lookup(session, known, [], [])
    rows: list[RoundRow] = []
    for track in session.tracks:
        rows += of_suspects(lookup, track)
        rows += of_file(lookup, track)
        rows += of_pressure(lookup, track)
        rows += of_marks(track)
    rows = shared(session, rows)
    for group in (*session.lasting_groups, session.master):
        rows += of_group(lookup, group, rows)
    rows += of_remarks(session)
    rows += of_cellar(lookup)
    rows += between_tracks(lookup)
    ensemble: EnsembleView | None = lookup.shown(_ENSEMBLES, OfSession()) if len(session.tracks) > 1 else None
    plan: PlanView | None = lookup.shown(_PLANS, AskedPlan()) if len(session.tracks) > 1 else None
    clash_rows, folded = of_clashes(session, ensemble, plan)
    rows += clash_rows
    judged = {one.row_id: one.verdict for one in session.judged}
    rows = [_judged(row, judged.get(row.id)) for row in rows]
    rows.sort(key=lambda row: (("to judge", "later", "done").index(row.status), -row.weight))
    return RoundView(
        rows=rows, waiting=len(lookup.missing), of=len(lookup.asked), plan=plan, folded_clashes=folded
    )  # fmt: skip


def _judged(row: RoundRow, verdict: Literal["fine", "later"] | None) -> RoundRow:
    if verdict is None or row.status == "done":
        return row
    if verdict == "later":
        return row.model_copy(update={"status": "later"})
    return row.model_copy(update={"status": "done", "outcome": "as it should be"})
