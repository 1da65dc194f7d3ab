"""The rows of the round: all that is to be judged over a session, as far as it is known, each in one sentence."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from pydantic import BaseModel

from mivlo.core.analyses.base import AnyAnalysis, Known, Need, OfSession, OfStrip
from mivlo.core.analyses.cellar import Cellars
from mivlo.core.analyses.cures import AskedMove, Cures
from mivlo.core.analyses.ensemble import ClashView, Ensembles, EnsembleView, ProofView
from mivlo.core.analyses.file_faults import FileFaults
from mivlo.core.analyses.in_mix import InMixOf, MovesInMix, SuspectInMix
from mivlo.core.analyses.plan import AskedPlan, Plans, PlanView
from mivlo.core.analyses.pressure import Pressures
from mivlo.core.analyses.relations import Relations, TrackRelation
from mivlo.core.analyses.suspects import AskedStretch, SuspectsOf, SuspectView
from mivlo.core.ensemble.in_mix import HeardAs
from mivlo.core.errors import MivloError
from mivlo.core.finder.kinds import VERBS, Kind
from mivlo.core.model import Group, LedgerEntry, RecordedSession, Track
from mivlo.core.moves import Move
from mivlo.core.moves.deeper import deepened
from mivlo.core.moves.low_cut import LowCut
from mivlo.core.round import weight_of

__all__ = ["RoundRow", "RoundView", "later_questions", "round_questions", "round_rows"]

RowKind = Literal["suspect", "clash", "plan", "cellar", "comes-back", "tracks", "file"]
Status = Literal["to judge", "done", "later"]
LEAST_CONFIDENCE = 0.1  # below it a suspect is not worth a row; the bench still has it
SAME_CENTS, SHARED_CENTS = 60.0, 25.0
LEAST_DEEPER_DB, MOST_DEEPER_DB = 1.0, 6.0  # that an answer which did not cure is offered to go further
LOOP_S, LEAD_S = 3.0, 0.4
# Where rows stand that are no suspects, beside `weight_of`: what is wrong with files and between tracks is put right
# first, then what stands in everybody's way.
CELLAR_WEIGHT, PLAN_WEIGHT, MOST_COMING_BACK = 3.0, 2.5, 4.0
FILE_WEIGHTS = {
    "clipped": 2.0, "off-zero": 1.0, "dropouts": 5.0, "silent-side": 5.0, "equal-sides": 0.2, "late-start": 0.3,
    "other-rate": 4.0,
}  # fmt: skip
CLASH_WEIGHTS = {"strong": 1.5, "moderate": 0.6}
_SUSPECTS, _IN_MIX, _MOVES_IN_MIX, _CURES, _FILES = SuspectsOf(), InMixOf(), MovesInMix(), Cures(), FileFaults()
_ENSEMBLES, _PLANS, _CELLARS, _RELATIONS, _PRESSURES = Ensembles(), Plans(), Cellars(), Relations(), Pressures()


class StripSuspect(BaseModel):
    """A suspect of a strip."""

    strip_id: str
    suspect: SuspectView


class CellarCutOf(BaseModel):
    """A low cut that is proposed for a track."""

    strip_id: str
    move: LowCut


class RoundRow(BaseModel):
    """One thing to be judged: `says` in one sentence, with what it hangs on beside it; the longest lists first.

    `weight` is where it stands; `loop_s` where it is heard best; `told` what became of it once it is answered.
    """

    id: str
    kind: RowKind
    status: Status
    weight: float
    strip_ids: list[str]
    says: str
    evidence: str
    proposes: str = ""
    told: str = ""
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
class _Known:
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


def round_questions(session: RecordedSession) -> Iterator[tuple[AnyAnalysis, BaseModel]]:
    """Yield what must be known for the rows of a session, what is seen first at the front. Raises nothing."""
    for track in session.tracks:
        yield _SUSPECTS, AskedStretch(strip_id=track.id)
    for track in session.tracks:
        yield _IN_MIX, OfStrip(strip_id=track.id)
        yield _FILES, OfStrip(strip_id=track.id)
    yield _CELLARS, OfSession()
    if len(session.tracks) > 1:
        yield _ENSEMBLES, OfSession()
        yield _RELATIONS, OfSession()
        yield _PLANS, AskedPlan()
    for track in session.tracks:
        for entry in track.lasting_ledger:
            if entry.evidence is not None:
                asked = AskedMove(strip_id=track.id, entry_id=entry.id)
                yield _CURES, asked
        if session.stands_in():
            yield _PRESSURES, OfStrip(strip_id=track.id)


def later_questions(session: RecordedSession) -> Iterator[tuple[AnyAnalysis, BaseModel]]:
    """Yield what rows tell as well once it is known, and nobody waits for: what each move does to the mix, and what
    stands out of groups, which sound otherwise after every edit. Raises nothing."""
    for track in session.tracks:
        for entry in track.lasting_ledger:
            if entry.evidence is not None:
                yield _MOVES_IN_MIX, AskedMove(strip_id=track.id, entry_id=entry.id)
    for group in (*session.groups, session.master):
        yield _SUSPECTS, AskedStretch(strip_id=group.id)


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
    lookup = _Known(session, known, [], [])
    rows: list[RoundRow] = []
    for track in session.tracks:
        rows += _of_suspects(lookup, track)
        rows += _of_file(lookup, track)
        rows += _of_pressure(lookup, track)
        rows += _of_marks(track)
    rows = _shared(session, rows)
    for group in (*session.groups, session.master):
        rows += _of_group(lookup, group, rows)
    rows += _of_cellar(lookup)
    rows += _between_tracks(lookup)
    ensemble: EnsembleView | None = lookup.shown(_ENSEMBLES, OfSession()) if len(session.tracks) > 1 else None
    plan: PlanView | None = lookup.shown(_PLANS, AskedPlan()) if len(session.tracks) > 1 else None
    clash_rows, folded = _of_clashes(session, ensemble, plan)
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
    return row.model_copy(update={"status": "done", "told": "as it should be"})


def _cents(hz: float, other_hz: float) -> float:
    return float(abs(1_200.0 * np.log2(hz / other_hz)))


def _of_suspects(lookup: _Known, track: Track) -> list[RoundRow]:
    shown = lookup.shown(_SUSPECTS, AskedStretch(strip_id=track.id))
    in_mix = lookup.shown(_IN_MIX, OfStrip(strip_id=track.id))
    if shown is None:
        return []
    heard: list[SuspectInMix] = in_mix.suspects if in_mix is not None else []
    answers = [entry for entry in track.lasting_ledger if entry.evidence is not None]
    rows: list[RoundRow] = []
    matched: set[str] = set()
    for suspect in shown.suspects:
        mine = next((one for one in heard if abs(one.hz - suspect.hz) < 1e-6), None)
        mine_too = [one for one in answers if _answers(one, suspect)]
        entry = mine_too[-1] if mine_too else None
        if entry is not None:
            matched.update(one.id for one in mine_too)
        elif suspect.confidence < LEAST_CONFIDENCE:
            continue
        rows.append(_row_of_suspect(lookup, track, suspect, mine, entry))
    for entry in answers:
        if entry.id not in matched:
            rows.append(_row_of_answer(lookup, track, entry))
    return rows


def _answers(entry: LedgerEntry, suspect: SuspectView) -> bool:
    assert entry.evidence is not None
    return entry.evidence.kind == suspect.kind and _cents(entry.evidence.hz, suspect.hz) <= SAME_CENTS


def _row_of_suspect(
    lookup: _Known, track: Track, suspect: SuspectView, mine: SuspectInMix | None, entry: LedgerEntry | None
) -> RoundRow:  # fmt: skip
    change_db = mine.change_db if mine is not None else None
    move = suspect.cut if suspect.proposed == "cut" else suspect.tame
    by_db = abs(float(getattr(move, "gain_db", getattr(move, "depth_db", 0.0))))
    covered = lookup.session.strip(mine.covered_by).name if mine is not None and mine.covered_by else None
    row = RoundRow(
        id=f"suspect {track.id} {suspect.id}", kind="suspect", status="to judge",
        weight=weight_of(suspect.confidence, 1.0 if change_db is None else change_db), strip_ids=[track.id],
        says=f"{track.name} {_says(suspect.kind, suspect.hz)}", evidence=suspect.sentence,
        proposes=f"{suspect.proposed} by {by_db:.1f} dB at {suspect.hz:.0f} Hz", sureness=suspect.sureness,
        confidence=suspect.confidence, hz=suspect.hz, heard=None if mine is None else mine.heard, change_db=change_db,
        in_mix_db=None if mine is None else mine.in_mix_db, covered_by=covered,
        loop_s=_loop(suspect, mine), suspects=[StripSuspect(strip_id=track.id, suspect=suspect)],
    )  # fmt: skip
    return row if entry is None else _answered(lookup, track, row, entry)


def _says(kind: Kind, hz: float) -> str:
    return VERBS[kind] if kind in ("plosive", "sibilance") else f"{VERBS[kind]} at {_hz(hz)}"


def _loop(suspect: SuspectView, mine: SuspectInMix | None) -> tuple[float, float] | None:
    if suspect.behaviour == "burst" and suspect.times:
        middle = suspect.times[len(suspect.times) // 2]
        return max(middle[0] - LEAD_S, 0.0), middle[1] + LEAD_S
    if mine is not None and mine.plainest is not None:
        return mine.plainest
    if suspect.times:
        longest = max(suspect.times, key=lambda one: one[1] - one[0])
        return longest[0], max(min(longest[1], longest[0] + LOOP_S), longest[0] + 1.0)
    return None


def _answered(lookup: _Known, track: Track, row: RoundRow, entry: LedgerEntry) -> RoundRow:
    """Return a row with what became of it, measured; one that is not cured is to be judged again while it is heard."""
    answered = row.model_copy(update={"status": "done", "proposes": "", "entries": [(track.id, entry.id)]})
    if not entry.move.on:
        return answered.model_copy(update={"told": "the move is off"})
    asked = AskedMove(strip_id=track.id, entry_id=entry.id)
    cure = lookup.shown(_CURES, asked) if track.acts else None
    if cure is None:
        return answered.model_copy(update={"told": "is being measured"})
    told = f"{cure.verdict}: {cure.excess_before_db:.1f} dB before, {max(cure.excess_after_db, 0.0):.1f} after"
    if cure.over_cut:
        told += "; more is gone than stood out"
    moved = lookup.shown(_MOVES_IN_MIX, asked, waits=False)
    if moved is not None:
        told += "; heard in the mix" if moved.heard != "lost" else "; not heard in the mix"
    if cure.verdict == "cured" or row.heard == "lost":
        return answered.model_copy(update={"told": told})
    by_db = float(np.clip(cure.excess_after_db, LEAST_DEEPER_DB, MOST_DEEPER_DB))
    deeper = deepened(entry.move, by_db)
    if deeper is None or deeper == entry.move:
        return answered.model_copy(update={"told": told})
    again = {"status": "to judge", "told": told, "deeper": deeper, "proposes": f"{by_db:.1f} dB deeper"}
    return answered.model_copy(update=again)


def _row_of_answer(lookup: _Known, track: Track, entry: LedgerEntry) -> RoundRow:
    evidence = entry.evidence
    assert evidence is not None
    verb = VERBS.get(evidence.kind, f"has a {evidence.kind}")  # type: ignore[call-overload]
    row = RoundRow(
        id=f"answer {track.id} {entry.id}", kind="suspect", status="done", weight=0.0, strip_ids=[track.id],
        says=f"{track.name} {verb} at {_hz(evidence.hz)}", evidence=entry.reason, hz=evidence.hz,
    )  # fmt: skip
    return _answered(lookup, track, row, entry)


def _of_marks(track: Track) -> Iterator[RoundRow]:
    """Yield what the user has judged that is no fault: it stays in the list."""
    for number, keeper in enumerate(track.keepers):
        middle = float(np.sqrt(keeper.low_hz * keeper.high_hz))
        yield RoundRow(
            id=f"keeper {track.id} {number}", kind="suspect", status="done", weight=0.0, strip_ids=[track.id],
            says=f"{track.name} keeps {_hz(keeper.low_hz)} to {_hz(keeper.high_hz)}", evidence="", told="wanted",
            hz=middle,
        )  # fmt: skip
    for number, place in enumerate(track.dismissed):
        yield RoundRow(
            id=f"dismissed {track.id} {number}", kind="suspect", status="done", weight=0.0, strip_ids=[track.id],
            says=f"{track.name} at {_hz(place.hz)}", evidence="", told="not a fault", hz=place.hz,
        )  # fmt: skip


def _shared(session: RecordedSession, rows: Sequence[RoundRow]) -> list[RoundRow]:
    """Join the same fault of several tracks into one row: it is answered once."""
    twins = {track.id: track.twin_id for track in session.tracks}
    names = {track.id: track.name for track in session.tracks}
    joined: list[RoundRow] = []
    for row in sorted(rows, key=lambda one: -one.weight):
        same = next((at for at, other in enumerate(joined) if _is_same(row, other, twins)), None)
        if same is None:
            joined.append(row)
            continue
        first = joined[same]
        strips = [*first.strip_ids, *row.strip_ids]
        told = f"{_and([names[one] for one in strips])} {_plural(first.suspects[0].suspect)}"
        joined[same] = first.model_copy(
            update={"strip_ids": strips, "says": told, "suspects": [*first.suspects, *row.suspects]}
        )
    return joined


def _is_same(row: RoundRow, other: RoundRow, twins: dict[str, str | None]) -> bool:
    both = row.kind == other.kind == "suspect" and row.status == other.status == "to judge"
    if not both or not row.suspects or not other.suspects or set(row.strip_ids) & set(other.strip_ids):
        return False
    one, first = row.suspects[0].suspect, other.suspects[0].suspect
    if one.kind != first.kind or one.behaviour != first.behaviour or one.kind in ("plosive", "sibilance"):
        return False
    are_twins = twins[row.strip_ids[0]] is not None and twins[row.strip_ids[0]] == twins[other.strip_ids[0]]
    # One that moves with the notes is nobody else's: two that play the same note ring alike.
    alike = one.follows_notes is not True and first.follows_notes is not True
    return _cents(one.hz, first.hz) <= (SAME_CENTS if are_twins else SHARED_CENTS) and (are_twins or alike)


def _plural(suspect: SuspectView) -> str:
    verb = VERBS[suspect.kind]
    plain = verb.replace("is ", "are ", 1) if verb.startswith("is ") else _without_s(verb)
    return f"{plain} at {_hz(suspect.hz)}, all of them"


def _without_s(verb: str) -> str:
    word, _, rest = verb.partition(" ")
    stem = word[:-2] if word.endswith(("shes", "ches", "zzes")) else word[:-1]
    return f"{stem} {rest}".strip()


def _and(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"


def _of_group(lookup: _Known, group: Group, rows: Sequence[RoundRow]) -> list[RoundRow]:
    """Return what stands out of a group or the mix and of none of the tracks."""
    view = lookup.shown(_SUSPECTS, AskedStretch(strip_id=group.id), waits=False)
    if view is None:
        return []
    places = [row.hz for row in rows if row.hz is not None]
    found = []
    for suspect in view.suspects:
        if suspect.confidence < LEAST_CONFIDENCE or any(_cents(suspect.hz, hz) <= SAME_CENTS for hz in places):
            continue
        found.append(
            RoundRow(
                id=f"suspect {group.id} {suspect.id}", kind="suspect", status="to judge",
                weight=weight_of(suspect.confidence, suspect.excess_db), strip_ids=[group.id],
                says=f"{group.name} {_says(suspect.kind, suspect.hz)}", evidence=suspect.sentence,
                sureness=suspect.sureness, confidence=suspect.confidence, hz=suspect.hz, loop_s=_loop(suspect, None),
                suspects=[StripSuspect(strip_id=group.id, suspect=suspect)],
            )
        )  # fmt: skip
    return found


def _of_file(lookup: _Known, track: Track) -> Iterator[RoundRow]:
    found = lookup.shown(_FILES, OfStrip(strip_id=track.id))
    for fault in found.faults if found is not None else ():
        start_s = track.start_frame / lookup.session.sample_rate_hz
        loop = None
        if fault.times_s:
            at = start_s + fault.times_s[0]
            loop = (max(at - 1.0, 0.0), at + 1.5)
        yield RoundRow(
            id=f"file {track.id} {fault.kind}", kind="file", status="to judge", weight=FILE_WEIGHTS[fault.kind],
            strip_ids=[track.id], says=f"The file of {track.name} {fault.says}", evidence="found in the file itself",
            proposes="bring in another file, or leave it", loop_s=loop,
        )  # fmt: skip


def _of_pressure(lookup: _Known, track: Track) -> Iterator[RoundRow]:
    if not lookup.session.stands_in():
        return
    shown = lookup.shown(_PRESSURES, OfStrip(strip_id=track.id))
    for one in shown.rows if shown is not None else ():
        if one.comes_back:
            entry = [(track.id, one.entry_id)] if one.entry_id else []
            yield RoundRow(
                id=f"back {track.id} {one.entry_id or round(one.hz)}", kind="comes-back", status="to judge",
                weight=min(one.back_db, MOST_COMING_BACK), strip_ids=[track.id], says=f"{track.name}: {one.says}",
                evidence="under pressure, measured behind the stand-ins",
                proposes=f"cut {one.deeper_by_db:.1f} dB more" if one.deeper_by_db else "", hz=one.hz, entries=entry,
                deeper=one.deeper, loop_s=None,
            )  # fmt: skip


def _of_cellar(lookup: _Known) -> Iterator[RoundRow]:
    view = lookup.shown(_CELLARS, OfSession())
    if view is None:
        return
    session = lookup.session
    open_cuts, n_done = [], 0
    for row in view.rows:
        if row.safe is None:
            continue
        if any(entry.move.kind == "low-cut" for entry in session.strip(row.track_id).ledger):
            n_done += 1
        else:
            open_cuts.append(CellarCutOf(strip_id=row.track_id, move=row.safe))
    if not open_cuts and not n_done:
        return
    places = sorted(one.move.hz for one in open_cuts)
    n = len(open_cuts)
    yield RoundRow(
        id="cellar", kind="cellar", status="to judge" if n else "done", weight=CELLAR_WEIGHT,
        strip_ids=[one.strip_id for one in open_cuts],
        says=f"{n} track{'' if n == 1 else 's'} hold{'s' if n == 1 else ''} more than silence below the lowest note"
        if n else "The cellar is clear",
        evidence="measured below each track's lowest useful note",
        proposes=f"low cuts from {_hz(places[0])} to {_hz(places[-1])}" if n else "",
        told="" if n else f"{n_done} low cuts", low_hz=20.0 if n else None, high_hz=places[-1] if n else None,
        cellar=open_cuts,
    )  # fmt: skip


def _between_tracks(lookup: _Known) -> Iterator[RoundRow]:
    if len(lookup.session.tracks) < 2:
        return
    found = lookup.shown(_RELATIONS, OfSession())
    rate = lookup.session.sample_rate_hz
    for pair in found.pairs if found is not None else ():
        if not pair.is_sure:
            continue
        first, second = (lookup.session.track(one).name for one in (pair.first, pair.second))
        ms = 1_000.0 * abs(pair.shift_frames) / rate
        late = second if pair.shift_frames > 0 else first
        how = [f"{late} comes {ms:.2f} ms later"] if pair.shift_frames else []
        how += ["they stand against each other in polarity"] if pair.flipped else []
        yield RoundRow(
            id=f"tracks {pair.first} {pair.second}", kind="tracks", status="to judge",
            weight=1.0 + max(pair.lows_win_db, 0.0), strip_ids=[pair.first, pair.second],
            says=f"{first} and {second} are one source: {_and(how)}",
            evidence=f"their lows together win {pair.lows_win_db:.1f} dB when it is put right",
            proposes=f"{'flip' if pair.flipped else 'shift'} {second}"
            + (f" and shift it by {ms:.2f} ms" if pair.flipped and pair.shift_frames else ""),
            sureness="almost certain" if pair.likeness > 0.6 else "likely", relation=pair,
        )  # fmt: skip


def _of_clashes(
    session: RecordedSession, ensemble: EnsembleView | None, plan: PlanView | None
) -> tuple[list[RoundRow], int]:  # fmt: skip
    """Return the plan as one row, the clashes that it leaves, and those that were answered; and how many are folded."""
    if ensemble is None:
        return [], 0
    proofs = {one.entry_id: one for one in ensemble.proofs}
    rows: list[RoundRow] = []
    if plan is not None and plan.moves:
        strips = list(dict.fromkeys(one.strip_id for one in plan.moves))
        fronts = list(dict.fromkeys(one.front for one in plan.moves))
        names = [session.strip(one).name for one in fronts]
        rows.append(
            RoundRow(
                id="plan", kind="plan", status="to judge", weight=PLAN_WEIGHT, strip_ids=strips,
                says=f"Room for {_and(names)}: {plan.says}", evidence=f"chosen from {plan.n_proposals} proposals",
                proposes=f"{len(plan.moves)} dips, each only while the other sounds",
                loop_s=_worst(ensemble, plan),
            )
        )  # fmt: skip
    planned = {(one.front, one.strip_id) for one in plan.moves} if plan is not None else set()
    folded = 0
    for clash in ensemble.clashes:
        if clash.by is None or clash.same_sound or not clash.against:
            continue
        weight = CLASH_WEIGHTS.get(clash.weight, 0.0)
        if clash.entry is None and ((clash.hidden, clash.by) in planned or not weight):
            folded += 1
            continue
        rows.append(_row_of_clash(session, clash, proofs, weight))
    return rows, folded


def _worst(ensemble: EnsembleView, plan: PlanView) -> tuple[float, float] | None:
    first = plan.moves[0]
    at = (one.worst for one in ensemble.clashes if (one.hidden, one.by) == (first.front, first.strip_id))
    return next((one for one in at if one is not None), None)


def _row_of_clash(
    session: RecordedSession, clash: ClashView, proofs: dict[str, ProofView], weight: float
) -> RoundRow:  # fmt: skip
    hidden = session.strip(clash.hidden).name
    proof = proofs.get(clash.entry[1]) if clash.entry is not None else None
    return RoundRow(
        id=f"clash {clash.id}", kind="clash", status="to judge" if clash.entry is None else "done", weight=weight,
        strip_ids=[clash.hidden, *([clash.by] if clash.by else [])],
        says=f"{hidden} is hidden by {clash.by_name} from {_hz(clash.low_hz)} to {_hz(clash.high_hz)}",
        evidence=clash.sentence, proposes=clash.can_be_won, told="" if proof is None else proof.sentence,
        sureness=clash.weight, hz=clash.centre_hz, low_hz=clash.low_hz, high_hz=clash.high_hz,
        loop_s=clash.worst, clash=clash, entries=[] if clash.entry is None else [clash.entry],
    )  # fmt: skip


def _hz(hz: float) -> str:
    return f"{hz / 1_000:.1f} kHz" if hz >= 1_000 else f"{hz:.0f} Hz"
