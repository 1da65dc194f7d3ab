"""The least-cut plan: the few yields, over all clashes at once, that make most room for those who go first."""

from collections.abc import Iterable

from pydantic import BaseModel, Field

from mivlo.core.analyses.base import Analysis, Known, Need, OfSession, Work, key_of
from mivlo.core.analyses.ear_map import as_mixed, map_need
from mivlo.core.analyses.ensemble import Ensemble, EnsembleOf, Ensembles
from mivlo.core.analyses.sounds import role_of
from mivlo.core.analyses.yields import Party, party_of, summed
from mivlo.core.ensemble.clashes import Clash
from mivlo.core.ensemble.describe import sentence
from mivlo.core.ensemble.least_cut import MOST_MOVES, Candidate, candidates_of, fader_instead, plan_of, scene_of
from mivlo.core.ensemble.listening import hear, sampled
from mivlo.core.ensemble.right_of_way import complete_order, goes_first, same_region
from mivlo.core.ensemble.yielding import Contender, Region, mid_share_of, yield_move
from mivlo.core.model import ClashReason, Frozen, LedgerEntry, RecordedSession, RightOfWay
from mivlo.core.moves import Move
from mivlo.core.units import hz_text

__all__ = ["AskedPlan", "PlanOf", "PlanView", "Planned", "Plans"]


class AskedPlan(OfSession):
    """How many moves there may be at most, and whether a dip acts only while the one that goes first sounds."""

    most: int = Field(default=MOST_MOVES, ge=1, le=40)
    is_dynamic: bool = True


class PlanOf(Frozen):
    """Everybody who plays, in the right of way, and all they say of regions."""

    together: EnsembleOf
    parties: tuple[Party, ...]
    order: tuple[str, ...]
    rights: RightOfWay
    most: int
    is_dynamic: bool
    sample_rate_hz: int


class PlannedMove(BaseModel):
    """A yield of the plan; gain and cost are those of the plan up to it, in sone as defined; `reached` is which part
    of the track's power it acts on."""

    front: str
    yielding: str
    hidden: str
    low_hz: float
    high_hz: float
    move: Move
    reached: float
    gain_sone: float
    cost_sone: float
    sentence: str


class FaderInstead(BaseModel):
    """A fader that would win as much for a track as all yields to it."""

    strip_id: str
    raised_db: float
    n_yields: int


class Planned(BaseModel):
    """The plan, in the order in which its moves are worth most; how many proposals it was chosen from."""

    moves: list[PlannedMove]
    faders: list[FaderInstead]
    n_proposals: int


class PlanMoveView(BaseModel):
    """A move as it would stand in a ledger, with what the plan wins up to it, 0 to 1 of all that it can."""

    strip_id: str
    front: str
    entry: LedgerEntry
    low_hz: float
    high_hz: float
    depth_db: float
    gain_sone: float
    cost_sone: float
    won: float
    sentence: str


class PlanView(BaseModel):
    """What is shown of a plan: its moves, what it comes to in a sentence, and what faders would do instead."""

    moves: list[PlanMoveView]
    n_proposals: int
    sentence: str
    faders: list[str]


_ENSEMBLES = Ensembles()


class Plans(Analysis[AskedPlan, PlanOf, Planned]):
    """The fewest cuts that make room for everybody, heard anew as the plan grows."""

    name = "plan"
    hangs_on_all = True
    version = 2
    asked, params, result, shown = AskedPlan, PlanOf, Planned, PlanView

    def question(self, session: RecordedSession, asked: AskedPlan, known: Known) -> PlanOf:
        together = _ENSEMBLES.question(session, OfSession(), known)
        ids = [one.id for one in together.before]
        roles = [role_of(session.strip(one)) for one in ids]
        return PlanOf(
            together=together, parties=tuple(party_of(session, together.before, one) for one in ids),
            order=tuple(complete_order(session.right_of_way.order, ids, roles)), rights=session.right_of_way,
            most=asked.most, is_dynamic=asked.is_dynamic, sample_rate_hz=session.sample_rate_hz,
        )  # fmt: skip

    def needs(self, params: PlanOf) -> Iterable[Need]:
        yield Need(_ENSEMBLES, params.together)
        yield from (map_need(one) for one in params.together.after)

    def analyse(self, work: Work, params: PlanOf) -> Planned:
        known: Ensemble = work.result(Need(_ENSEMBLES, params.together))
        parties, rate = params.parties, params.sample_rate_hz
        ids, roles = [one.id for one in parties], [one.role for one in parties]
        order = [ids.index(one) for one in params.order]
        open_ones = [clash for clash in known.clashes if not _is_answered(clash, ids, params.together)]
        firsts = [None if one.by is None else ids.index(_first(one, ids, params) or ids[one.by]) for one in open_ones]
        candidates = candidates_of(open_ones, order, roles, firsts=firsts)
        if not candidates:
            return Planned(moves=[], faders=[], n_proposals=0)
        tracks = sampled(as_mixed(work, params.together.after))
        heard = hear(tracks, full_scale_db=known.full_scale_db)
        work.report(0.3)
        contenders: dict[int, Contender] = {}

        def contender(number: int) -> Contender:
            if number not in contenders:
                source, start = summed(work, parties[number].sounds)
                one = parties[number]
                contenders[number] = Contender(number, one.id, source, start / rate, one.role, one.pan)
            return contenders[number]

        def mid_share(one: Candidate) -> float | None:
            if roles[one.yielding] != "full backing":
                return None
            region = Region(one.low_hz, one.high_hz, one.times)
            return mid_share_of(contender(one.front), contender(one.yielding), tracks[one.front], region, rate)

        shares = [mid_share(one) for one in candidates]
        reached = [1.0 if share is None else share for share in shares]
        scene = scene_of(
            tracks, heard, candidates, order, full_scale_db=known.full_scale_db, reached=reached,
            is_dynamic=params.is_dynamic,
        )  # fmt: skip
        plan = plan_of(scene, candidates, most=params.most)
        work.report(0.9)
        share_of = {id(one): share for one, share in zip(candidates, shares, strict=True)}
        reached_by = {id(one): part for one, part in zip(candidates, reached, strict=True)}
        clash_of = {(one.hidden, one.by, one.low_hz): one for one in open_ones}
        moves = []
        for step in plan.steps:
            one = step.candidate
            region = Region(one.low_hz, one.high_hz, one.times)
            move = yield_move(
                one.hz, one.octaves, one.depth_db, region, front=contender(one.front),
                mid=share_of[id(one)] is not None, is_dynamic=params.is_dynamic, sample_rate_hz=rate,
            )  # fmt: skip
            clash = clash_of[(one.front, one.yielding, one.low_hz)]
            moves.append(
                PlannedMove(
                    front=ids[one.front], yielding=ids[one.yielding], hidden=ids[clash.hidden], low_hz=one.low_hz,
                    high_hz=one.high_hz, move=move, reached=reached_by[id(one)], gain_sone=step.gain_sone,
                    cost_sone=step.cost_sone, sentence=sentence(clash, ids),
                )
            )  # fmt: skip
        faders = [
            FaderInstead(
                strip_id=ids[one.track], raised_db=one.raised_db,
                n_yields=sum(step.candidate.front == one.track for step in plan.steps),
            )
            for one in fader_instead(scene, plan)
        ]  # fmt: skip
        return Planned(moves=moves, faders=faders, n_proposals=len(candidates))

    def show(self, session: RecordedSession, asked: AskedPlan, params: PlanOf, result: Planned) -> PlanView:
        names = {strip.id: strip.name for strip in session.strips()}
        could = max((one.gain_sone for one in result.moves), default=0.0)
        key = key_of(self, params)
        moves = []
        for number, one in enumerate(result.moves):
            entry = LedgerEntry(
                id=f"{key[:24]}{number:08x}", move=one.move,
                reason=f"Gives way to {names[one.front]}, as one of {len(result.moves)} in a plan for all"[:500],
                clash=ClashReason(front=one.front, hidden=one.hidden, low_hz=one.low_hz, high_hz=one.high_hz),
            )  # fmt: skip
            depth_db = float(getattr(one.move, "depth_db", getattr(one.move, "gain_db", 0.0)))
            moves.append(
                PlanMoveView(
                    strip_id=one.yielding, front=one.front, entry=entry, low_hz=one.low_hz, high_hz=one.high_hz,
                    depth_db=depth_db, gain_sone=one.gain_sone, cost_sone=one.cost_sone,
                    won=one.gain_sone / max(could, 1e-9),
                    sentence=f"{names[one.yielding]} gives way to {names[one.front]} between {hz_text(one.low_hz)} and "
                    f"{hz_text(one.high_hz)}",
                )
            )  # fmt: skip
        return PlanView(
            moves=moves, n_proposals=result.n_proposals, sentence=_sentence(moves, result.n_proposals),
            faders=[
                f"{names[one.strip_id]} up by {one.raised_db:g} dB wins as much for it as "
                + ("that one dip" if one.n_yields == 1 else f"all {one.n_yields} dips")
                for one in result.faders
            ],
        )  # fmt: skip

    def foreseen(self, session: RecordedSession) -> Iterable[AskedPlan]:
        return (AskedPlan(),) if len(session.tracks) > 1 else ()


def _first(clash: Clash, ids: list[str], params: PlanOf) -> str | None:
    assert clash.by is not None
    return goes_first(
        params.rights, params.order, ids[clash.hidden], ids[clash.by], low_hz=clash.low_hz, high_hz=clash.high_hz
    )  # fmt: skip


def _is_answered(clash: Clash, ids: list[str], together: EnsembleOf) -> bool:
    """Tell whether a track gives way there already."""
    if clash.by is None:
        return False
    pair = {ids[clash.hidden], ids[clash.by]}
    return any(
        {one.strip_id, one.reason.front} == pair
        and same_region(clash.low_hz, clash.high_hz, one.reason.low_hz, one.reason.high_hz)
        for one in together.yields
    )


def _sentence(moves: list[PlanMoveView], n_proposals: int) -> str:
    """Return the curve in a sentence: how many moves win how much."""
    if not moves:
        return "No cut makes room for anybody who goes first." if n_proposals else "Nobody who goes first is hidden."
    parts: list[tuple[int, float]] = []
    for wanted in (0.7, 0.9):
        n = next(number for number, one in enumerate(moves, 1) if one.won >= wanted)
        if not parts or n > parts[-1][0]:
            parts.append((n, moves[n - 1].won))
    listed = "; ".join(
        f"{n} move{'' if n == 1 else 's'} win{'s' if n == 1 else ''} {100 * won:.0f} %"
        + (" of what a plan can win" if not at else "")
        for at, (n, won) in enumerate(parts)
    )
    return f"{listed}."
