"""The Ensemble: who hides whom, and what came of the moves by which tracks yield."""

import base64
from collections.abc import Iterable

import numpy as np
from pydantic import BaseModel

from mivlo.core.analyses.base import Analysis, Known, Need, OfSession, Work
from mivlo.core.analyses.ear_map import Playing, as_mixed, map_need, who_plays
from mivlo.core.analyses.sounds import role_of
from mivlo.core.ensemble.clashes import Clash, find_clashes
from mivlo.core.ensemble.columns import HIDDEN_FROM, Columns, band_edges_hz, columns, worst_stretch
from mivlo.core.ensemble.describe import ALL_OTHERS, sentence, weight_in_words, what_can_be_won
from mivlo.core.ensemble.hearing import CENTRES_HZ
from mivlo.core.ensemble.listening import Heard, full_scale_db_spl, hear, sampled
from mivlo.core.ensemble.proof import ProofVerdict, proof_sentence, prove
from mivlo.core.ensemble.right_of_way import complete_order, goes_first, same_region
from mivlo.core.model import ClashReason, Frozen, Group, RecordedSession, Track
from mivlo.core.roles import Role

__all__ = ["ClashView", "ColumnView", "Ensemble", "EnsembleOf", "EnsembleView", "Ensembles", "ProofView", "packed"]

MOST_SHOWN = 60  # clashes
N_TIMES = 72  # across a column


class Yielded(Frozen):
    """A move by which a strip yields, and what it answers."""

    strip_id: str
    entry_id: str
    reason: ClashReason


class EnsembleOf(Frozen):
    """Everybody who plays, without the yields and with them, and the yields."""

    before: tuple[Playing, ...]
    after: tuple[Playing, ...]
    yields: tuple[Yielded, ...]


class ColumnBytes(BaseModel):
    """Pictures of one who plays, each base64 of (bands, times) bytes, the lowest band first; as `Columns`."""

    ink: str
    hidden: str
    by: str
    ink_now: str
    hidden_now: str


class Proven(BaseModel):
    """What a yield has brought, as `Proof`; curves in sone per Cam."""

    strip_id: str
    entry_id: str
    front: str
    low_hz: float
    high_hz: float
    verdict: ProofVerdict
    gained_percent: float
    hidden_before_percent: float
    hidden_after_percent: float
    cost_percent: float
    before: list[float]
    after: list[float]
    yielding_before: list[float]
    yielding_after: list[float]


class Ensemble(BaseModel):
    """What listening to all together gave; clashes name those who play by their number."""

    columns: list[ColumnBytes]
    n_times: int
    start_s: float
    step_s: float
    clashes: list[Clash]
    proofs: list[Proven]
    full_scale_db: float


class ColumnView(ColumnBytes):
    """A track or group with its pictures."""

    id: str
    name: str
    role: Role | None
    is_group: bool


class ProofView(Proven):
    """What a yield has brought, measured on the treated sound."""

    sentence: str


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
    """All that is shown of who hides whom; `proofs` of every yield of the session."""

    order: list[str]
    bands_hz: list[float]
    edges_hz: list[float]
    n_times: int
    hidden_from: int = HIDDEN_FROM  # of 255
    start_s: float
    step_s: float
    columns: list[ColumnView]
    clashes: list[ClashView]
    proofs: list[ProofView]


class Ensembles(Analysis[OfSession, EnsembleOf, Ensemble]):
    """All maps listened to together, with the faders as they are."""

    name = "ensemble"
    hangs_on_all = True
    asked, params, result, shown = OfSession, EnsembleOf, Ensemble, EnsembleView

    def question(self, session: RecordedSession, asked: OfSession, known: Known) -> EnsembleOf:
        yields = tuple(
            Yielded(strip_id=strip.id, entry_id=entry.id, reason=entry.clash)
            for strip in (*session.tracks, *session.groups)
            for entry in strip.ledger
            if entry.clash is not None and entry.move.on and strip.acts
        )
        return EnsembleOf(before=who_plays(_without_yields(session)), after=who_plays(session), yields=yields)

    def needs(self, params: EnsembleOf) -> Iterable[Need]:
        return (map_need(one) for one in (*params.before, *params.after))

    def analyse(self, work: Work, params: EnsembleOf) -> Ensemble:
        if not params.before:
            return Ensemble(columns=[], n_times=1, start_s=0.0, step_s=1.0, clashes=[], proofs=[], full_scale_db=0.0)
        tracks = sampled(as_mixed(work, params.before))
        full_scale_db = full_scale_db_spl(tracks)
        before = hear(tracks, full_scale_db=full_scale_db)
        after = before
        if params.yields:
            after = hear(sampled(as_mixed(work, params.after)), full_scale_db=full_scale_db)
        then, now = columns(before, n_times=N_TIMES), columns(after, n_times=N_TIMES)
        return Ensemble(
            columns=[_column(number, then, now) for number in range(len(params.before))],
            n_times=then.ink.shape[2], start_s=then.start_s, step_s=then.step_s, clashes=find_clashes(before),
            proofs=_proofs(params, before, after), full_scale_db=full_scale_db,
        )  # fmt: skip

    def show(self, session: RecordedSession, asked: OfSession, params: EnsembleOf, result: Ensemble) -> EnsembleView:
        strips = [session.strip(one.id) for one in params.before]
        ids, names = [one.id for one in strips], [one.name for one in strips]
        name_of = dict(zip(ids, names, strict=True))
        order = complete_order(session.right_of_way.order, ids, [role_of(one) for one in strips])
        return EnsembleView(
            order=order,
            bands_hz=np.round(CENTRES_HZ, 1).tolist(),
            edges_hz=np.round(band_edges_hz(), 1).tolist(),
            n_times=result.n_times,
            start_s=result.start_s,
            step_s=result.step_s,
            columns=[
                ColumnView(
                    id=strip.id, name=strip.name, role=role_of(strip), is_group=isinstance(strip, Group),
                    **dict(column),
                )
                for strip, column in zip(strips, result.columns, strict=True)
            ],
            clashes=[clash_view(session, clash, ids, order, names) for clash in result.clashes[:MOST_SHOWN]],
            proofs=[
                ProofView(**dict(one), sentence=proof_sentence(one, name_of[one.front], name_of[one.strip_id]))
                for one in result.proofs
            ],
        )  # fmt: skip

    def foreseen(self, session: RecordedSession) -> Iterable[OfSession]:
        return (OfSession(),) if len(session.tracks) > 1 else ()


def _without_yields(session: RecordedSession) -> RecordedSession:
    def plain(strip: Track | Group) -> dict[str, object]:
        return {"ledger": tuple(entry for entry in strip.ledger if entry.clash is None)}

    return session.model_copy(
        update={
            "tracks": tuple(track.model_copy(update=plain(track)) for track in session.tracks),
            "groups": tuple(group.model_copy(update=plain(group)) for group in session.groups),
        }
    )


def packed(picture: np.ndarray) -> str:
    """Return a picture of bytes as text. Raises nothing. Source: ours."""
    return base64.b64encode(picture.tobytes()).decode()


def _column(number: int, then: Columns, now: Columns) -> ColumnBytes:
    pictures = (then.ink, then.hidden, then.by, now.ink, now.hidden)
    ink, hidden, by, ink_now, hidden_now = (packed(one[number]) for one in pictures)
    return ColumnBytes(ink=ink, hidden=hidden, by=by, ink_now=ink_now, hidden_now=hidden_now)


def _proofs(params: EnsembleOf, before: Heard, after: Heard) -> list[Proven]:
    number_of = {one.id: number for number, one in enumerate(params.before)}
    proofs = []
    for one in params.yields:
        reason = one.reason
        if reason.front not in number_of or one.strip_id not in number_of:
            continue
        proof = prove(
            before, after, front=number_of[reason.front], yielding=number_of[one.strip_id], low_hz=reason.low_hz,
            high_hz=reason.high_hz,
        )  # fmt: skip
        proofs.append(
            Proven(
                strip_id=one.strip_id, entry_id=one.entry_id, front=reason.front, low_hz=reason.low_hz,
                high_hz=reason.high_hz, verdict=proof.verdict, gained_percent=proof.gained_percent,
                hidden_before_percent=proof.hidden_before_percent, hidden_after_percent=proof.hidden_after_percent,
                cost_percent=proof.cost_percent, before=_rounded(proof.before), after=_rounded(proof.after),
                yielding_before=_rounded(proof.yielding_before), yielding_after=_rounded(proof.yielding_after),
            )
        )  # fmt: skip
    return proofs


def _rounded(values: np.ndarray) -> list[float]:
    return [round(float(value), 4) for value in values]


def clash_view(session: RecordedSession, clash: Clash, ids: list[str], order: list[str], names: list[str]) -> ClashView:
    """Return a clash with the decision on it, by the right of way of a session. Raises nothing. Source: ours."""
    hidden, by = ids[clash.hidden], None if clash.by is None else ids[clash.by]
    low_hz, high_hz, rights = clash.low_hz, clash.high_hz, session.right_of_way
    first = hidden if by is None else goes_first(rights, order, hidden, by, low_hz=low_hz, high_hz=high_hz)
    entry = None if by is None else _answering(session, (hidden, by), low_hz, high_hz)
    return ClashView(
        id=f"{hidden}-{by or 'all'}-{round(clash.low_hz)}", hidden=hidden, by=by,
        by_name=ALL_OTHERS if clash.by is None else names[clash.by], low_hz=low_hz, high_hz=high_hz,
        centre_hz=clash.centre_hz, share_of_time=clash.share_of_time, loss_percent=clash.loss_percent,
        loss_sone=clash.loss_sone, winnable_percent=clash.winnable_percent, strength=clash.strength,
        weight=weight_in_words(clash), same_sound=clash.same_sound, sentence=sentence(clash, names),
        can_be_won=what_can_be_won(clash, names), times=list(clash.times), worst=worst_stretch(clash), first=first,
        yielding=None if first is None or by is None else by if first == hidden else hidden,
        against=by is not None and (first == hidden or entry is not None), entry=entry,
    )  # fmt: skip


def _answering(
    session: RecordedSession, pair: tuple[str, str], low_hz: float, high_hz: float
) -> tuple[str, str] | None:  # fmt: skip
    """Return strip and entry of the newest move that answers the clash in which the first of a pair is hidden by the
    other."""
    for strip_id, front in (pair, pair[::-1]):
        for entry in reversed(session.strip(strip_id).ledger):
            reason = entry.clash
            if (
                reason is not None and (reason.front, reason.hidden) == (front, pair[0])
                and same_region(low_hz, high_hz, reason.low_hz, reason.high_hz)
            ):  # fmt: skip
                return strip_id, entry.id
    return None
