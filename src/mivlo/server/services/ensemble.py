"""The Ensemble: who hides whom, the moves by which tracks yield, and what came of them."""

import base64

import numpy as np
from pydantic import BaseModel

from mivlo.core.ensemble.clashes import Clash
from mivlo.core.ensemble.columns import HIDDEN_FROM, band_edges_hz, worst_stretch
from mivlo.core.ensemble.describe import ALL_OTHERS, sentence, weight_in_words, what_can_be_won
from mivlo.core.ensemble.hearing import CENTRES_HZ
from mivlo.core.ensemble.proof import ProofVerdict, proof_sentence
from mivlo.core.ensemble.right_of_way import complete_order, goes_first, same_region
from mivlo.core.ensemble.yielding import Terms
from mivlo.core.errors import NotFoundError, ParameterError
from mivlo.core.model import ClashReason, LedgerEntry
from mivlo.core.roles import Role
from mivlo.server.db.tables import new_id
from mivlo.server.services.ensemble_work import Answer, Player, Question, answer_of, drafted_yield, question_of, work_on
from mivlo.server.services.state import SessionState

__all__ = ["ClashView", "ColumnView", "EnsembleView", "ProofView", "YieldView", "ensemble_of", "yield_of"]

MOST_SHOWN = 60  # clashes


class ColumnView(BaseModel):
    """A track or group; each picture is base64 of (bands, times) bytes, the lowest band first."""

    id: str
    name: str
    role: Role | None
    is_group: bool
    ink: str
    hidden: str
    by: str
    ink_now: str
    hidden_now: str


class ProofView(BaseModel):
    """What a yield has brought, measured on the treated sound; curves in sone per Cam at `bands_hz`."""

    strip_id: str
    entry_id: str
    front: str
    low_hz: float
    high_hz: float
    verdict: ProofVerdict
    sentence: str
    gained_percent: float
    hidden_before_percent: float
    hidden_after_percent: float
    cost_percent: float
    before: list[float]
    after: list[float]
    yielding_before: list[float]
    yielding_after: list[float]


class ClashView(BaseModel):
    """A clash with the decision on it; ids of tracks and groups, `by` None: all others together; times in seconds."""

    id: str
    hidden: str
    by: str | None
    by_name: str
    low_hz: float
    high_hz: float
    centre_hz: float
    share_of_time: float
    loss_percent: float
    loss_sone: float
    winnable_percent: float
    strength: float
    weight: str
    same_sound: bool
    sentence: str
    can_be_won: str
    times: list[tuple[float, float]]
    worst: tuple[float, float] | None
    first: str | None
    yielding: str | None
    against: bool  # the right of way: who goes first is hidden, or was until the other gave way
    entry: tuple[str, str] | None


class EnsembleView(BaseModel):
    """Where the work stands, and once it is done, all that is shown; `proofs` of every yield of the session."""

    ready: bool
    done: int
    of: int
    problem: str | None = None
    order: list[str] = []
    bands_hz: list[float] = []
    edges_hz: list[float] = []
    n_times: int = 0
    hidden_from: int = HIDDEN_FROM  # of 255
    start_s: float = 0.0
    step_s: float = 1.0
    columns: list[ColumnView] = []
    clashes: list[ClashView] = []
    proofs: list[ProofView] = []


class YieldView(BaseModel):
    """A drafted yield: for which strip, the entry of its ledger, and what the model expects of it."""

    strip_id: str
    entry: LedgerEntry
    limit_db: float
    capped: bool
    regained_percent: float
    costs_percent: float


def ensemble_of(state: SessionState) -> EnsembleView:
    """Return who hides whom, or how far the work on it is; it goes on in the background, and only what changed is
    done again."""
    question = question_of(state)
    work = work_on(question)
    if work.answer is None:
        return EnsembleView(ready=False, done=work.done, of=work.of, problem=work.problem)
    return _view(state, question, work.answer)


def _view(state: SessionState, question: Question, answer: Answer) -> EnsembleView:
    players = question.before
    names = {one.id: one.name for one in players}
    ids = [one.id for one in players]
    order = complete_order(state.right_of_way.order, ids, [one.role for one in players])
    proofs = [
        ProofView(
            strip_id=strip, entry_id=entry, front=reason.front, low_hz=reason.low_hz, high_hz=reason.high_hz,
            verdict=proof.verdict, sentence=proof_sentence(proof, names[reason.front], names[strip]),
            gained_percent=proof.gained_percent, hidden_before_percent=proof.hidden_before_percent,
            hidden_after_percent=proof.hidden_after_percent,
            cost_percent=proof.cost_percent, before=_rounded(proof.before), after=_rounded(proof.after),
            yielding_before=_rounded(proof.yielding_before), yielding_after=_rounded(proof.yielding_after),
        )
        for strip, entry, reason in question.answers
        if (proof := answer.proofs.get((strip, entry))) is not None
    ]  # fmt: skip
    return EnsembleView(
        ready=True,
        done=1,
        of=1,
        order=order,
        bands_hz=np.round(CENTRES_HZ, 1).tolist(),
        edges_hz=np.round(band_edges_hz(), 1).tolist(),
        n_times=answer.before.ink.shape[2],
        start_s=answer.before.start_s,
        step_s=answer.before.step_s,
        proofs=proofs,
        columns=[_column(one, number, answer) for number, one in enumerate(players)],
        clashes=[_clash(state, clash, ids, order, names) for clash in answer.clashes[:MOST_SHOWN]],
    )


def _rounded(values: np.ndarray) -> list[float]:
    return [round(float(value), 4) for value in values]


def _column(player: Player, number: int, answer: Answer) -> ColumnView:
    def packed(picture: np.ndarray) -> str:
        return base64.b64encode(picture[number].tobytes()).decode()

    return ColumnView(
        id=player.id, name=player.name, role=player.role, is_group=player.is_group, ink=packed(answer.before.ink),
        hidden=packed(answer.before.hidden), by=packed(answer.before.by), ink_now=packed(answer.after.ink),
        hidden_now=packed(answer.after.hidden),
    )  # fmt: skip


def _clash(state: SessionState, clash: Clash, ids: list[str], order: list[str], names: dict[str, str]) -> ClashView:
    hidden, by = ids[clash.hidden], None if clash.by is None else ids[clash.by]
    called = [names[one] for one in ids]
    low_hz, high_hz = clash.low_hz, clash.high_hz
    first = hidden if by is None else goes_first(state.right_of_way, order, hidden, by, low_hz=low_hz, high_hz=high_hz)
    entry = None if by is None else _answering(state, (hidden, by), low_hz, high_hz)
    return ClashView(
        id=f"{hidden}-{by or 'all'}-{round(clash.low_hz)}", hidden=hidden, by=by,
        by_name=ALL_OTHERS if by is None else names[by], low_hz=low_hz, high_hz=high_hz, centre_hz=clash.centre_hz,
        share_of_time=clash.share_of_time, loss_percent=clash.loss_percent, loss_sone=clash.loss_sone,
        winnable_percent=clash.winnable_percent, strength=clash.strength, weight=weight_in_words(clash),
        same_sound=clash.same_sound, sentence=sentence(clash, called), can_be_won=what_can_be_won(clash, called),
        times=list(clash.times),
        worst=worst_stretch(clash), first=first,
        yielding=None if first is None or by is None else by if first == hidden else hidden,
        against=by is not None and (first == hidden or entry is not None), entry=entry,
    )  # fmt: skip


def _answering(state: SessionState, pair: tuple[str, str], low_hz: float, high_hz: float) -> tuple[str, str] | None:
    """Return strip and entry of the newest move that answers the clash in which the first of a pair is hidden by the
    other."""
    for strip_id, front in (pair, pair[::-1]):
        for entry in reversed(state.strip(strip_id).ledger):
            reason = entry.clash
            if (
                reason is not None and (reason.front, reason.hidden) == (front, pair[0])
                and same_region(low_hz, high_hz, reason.low_hz, reason.high_hz)
            ):  # fmt: skip
                return strip_id, entry.id
    return None


def yield_of(state: SessionState, clash_id: str, terms: Terms) -> YieldView:
    """Return the move by which the track without the right of way yields in a clash.

    Raises
    ------
    NotFoundError: no such clash in the session as it is (or it is not analysed yet)
    ParameterError: nobody is to yield there, or no single track could
    """
    question = question_of(state)
    answer = answer_of(question)
    if answer is None:
        raise NotFoundError("the session is not analysed as it is now: ask for the ensemble first")
    shown = {
        one.id: (one, clash) for one, clash in zip(_view(state, question, answer).clashes, answer.clashes, strict=False)
    }
    if clash_id not in shown:
        raise NotFoundError(f"clash {clash_id} is not there any more")
    view, clash = shown[clash_id]
    if view.by is None:
        raise ParameterError("many tracks hide it together: no single one can yield; choose a clash with one of them")
    if view.same_sound:
        raise ParameterError("both are the same sound: what one gives way, the other loses too")
    if view.first is None or view.yielding is None:
        raise ParameterError("both stay, by your decision: nobody is to yield here")
    drafted = drafted_yield(
        state, question, clash, terms, front=view.first, yielding=view.yielding, full_scale_db=answer.full_scale_db
    )  # fmt: skip
    names = {one.id: one.name for one in question.before}
    entry = LedgerEntry(
        id=new_id(), move=drafted.move,
        reason=f"Gives way to {names[view.first]}: {view.sentence}"[:500],
        clash=ClashReason(front=view.first, hidden=view.hidden, low_hz=clash.low_hz, high_hz=clash.high_hz),
    )  # fmt: skip
    return YieldView(
        strip_id=view.yielding, entry=entry, limit_db=drafted.limit_db, capped=drafted.capped,
        regained_percent=100.0 * drafted.regained, costs_percent=drafted.costs_percent,
    )  # fmt: skip
