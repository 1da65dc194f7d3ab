"""Rows of the session as a whole: files, tracks of one source, the cellar, what comes back, clashes and the plan."""

from collections.abc import Iterator

from mivlo.core.analyses.base import OfSession, OfStrip
from mivlo.core.analyses.cellar import Cellars
from mivlo.core.analyses.ensemble import ClashView, EnsembleView, ProofView
from mivlo.core.analyses.file_faults import FileFaults
from mivlo.core.analyses.plan import PlanView
from mivlo.core.analyses.pressure import Pressures
from mivlo.core.analyses.relations import Relations
from mivlo.core.model import RecordedSession, Session, Track
from mivlo.core.round.row import CellarCutOf, Lookup, RoundRow, joined
from mivlo.core.units import hz_text, time_text

__all__ = [
    "CELLARS", "FILES", "PRESSURES", "RELATIONS", "between_tracks", "of_cellar", "of_clashes", "of_file", "of_pressure",
    "of_remarks",
]  # fmt: skip

# Where rows stand that are no suspects, beside `weight_of`: what is wrong with files and between tracks is put right
# first, then what stands in everybody's way.
CELLAR_WEIGHT, PLAN_WEIGHT, MOST_COMING_BACK = 3.0, 2.5, 4.0
FILE_WEIGHTS = {
    "clipped": 2.0, "off-zero": 1.0, "dropouts": 5.0, "silent-side": 5.0, "equal-sides": 0.2, "late-start": 0.3,
    "other-rate": 4.0,
}  # fmt: skip
REMARK_WEIGHT = 6.0  # somebody has heard it: that goes before what is only measured
REMARK_BEFORE_S, REMARK_AFTER_S = 1.5, 2.5
CLASH_WEIGHTS = {"strong": 1.5, "moderate": 0.6}
FILES, CELLARS, RELATIONS, PRESSURES = FileFaults(), Cellars(), Relations(), Pressures()


def of_file(lookup: Lookup, track: Track) -> Iterator[RoundRow]:
    """Yield what is wrong with the file of a track. Raises nothing. Source: ours."""
    found = lookup.shown(FILES, OfStrip(strip_id=track.id))
    for fault in found.faults if found is not None else ():
        start_s = track.start_frame / lookup.session.sample_rate_hz
        loop = None
        if fault.times_s:
            at = start_s + fault.times_s[0]
            loop = (max(at - 1.0, 0.0), at + 1.5)
        yield RoundRow(
            id=f"file {track.id} {fault.kind}", kind="file", status="to judge", weight=FILE_WEIGHTS[fault.kind],
            strip_ids=[track.id], sentence=f"The file of {track.name} {fault.sentence}",
            evidence="found in the file itself", proposes="bring in another file, or leave it", loop_s=loop,
        )  # fmt: skip


def of_pressure(lookup: Lookup, track: Track) -> Iterator[RoundRow]:
    """Yield what of a track comes back under pressure. Raises nothing. Source: ours."""
    if not lookup.session.stands_in():
        return
    shown = lookup.shown(PRESSURES, OfStrip(strip_id=track.id))
    for one in shown.rows if shown is not None else ():
        if one.comes_back:
            entry = [(track.id, one.entry_id)] if one.entry_id else []
            yield RoundRow(
                id=f"back {track.id} {one.entry_id or round(one.hz)}", kind="comes-back", status="to judge",
                weight=min(one.back_db, MOST_COMING_BACK), strip_ids=[track.id],
                sentence=f"{track.name}: {one.sentence}", evidence="under pressure, measured behind the stand-ins",
                proposes=f"cut {one.deeper_by_db:.1f} dB more" if one.deeper_by_db else "", hz=one.hz, entries=entry,
                deeper=one.deeper, loop_s=None,
            )  # fmt: skip


def of_remarks(session: Session) -> Iterator[RoundRow]:
    """Yield what somebody has said who listened. Raises nothing. Source: ours."""
    for strip in session.strips():
        for one in strip.remarks:
            place = "" if one.hz is None else f", {hz_text(one.hz)}"
            yield RoundRow(
                id=f"remark {one.id}", kind="remark", status="to judge", weight=REMARK_WEIGHT, strip_ids=[strip.id],
                sentence=f"{strip.name}: {one.text}", evidence=f"said at {time_text(one.at_s)}{place}"
                + (f" by {one.author}" if one.author else ""), hz=one.hz,
                loop_s=(max(one.at_s - REMARK_BEFORE_S, 0.0), one.at_s + REMARK_AFTER_S),
            )  # fmt: skip


def of_cellar(lookup: Lookup) -> Iterator[RoundRow]:
    """Yield the cellar, as one row. Raises nothing. Source: ours."""
    view = lookup.shown(CELLARS, OfSession())
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
        sentence=f"{n} track{'' if n == 1 else 's'} hold{'s' if n == 1 else ''} more than silence below the lowest note"
        if n else "The cellar is clear",
        evidence="measured below each track's lowest useful note",
        proposes=f"low cuts from {hz_text(places[0])} to {hz_text(places[-1])}" if n else "",
        outcome="" if n else f"{n_done} low cuts", low_hz=20.0 if n else None, high_hz=places[-1] if n else None,
        cellar=open_cuts,
    )  # fmt: skip


def between_tracks(lookup: Lookup) -> Iterator[RoundRow]:
    """Yield tracks of one source that work against one another, or are shifted. Raises nothing. Source: ours."""
    if len(lookup.session.tracks) < 2:
        return
    found = lookup.shown(RELATIONS, OfSession())
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
            sentence=f"{first} and {second} are one source: {joined(how)}",
            evidence=f"their lows together win {pair.lows_win_db:.1f} dB when it is put right",
            proposes=f"{'flip' if pair.flipped else 'shift'} {second}"
            + (f" and shift it by {ms:.2f} ms" if pair.flipped and pair.shift_frames else ""),
            sureness="almost certain" if pair.likeness > 0.6 else "likely", relation=pair,
        )  # fmt: skip


def of_clashes(
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
                sentence=f"Room for {joined(names)}: {plan.sentence}",
                evidence=f"chosen from {plan.n_proposals} proposals",
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
        sentence=f"{hidden} is hidden by {clash.by_name} from {hz_text(clash.low_hz)} to {hz_text(clash.high_hz)}",
        evidence=clash.sentence, proposes=clash.can_be_won, outcome="" if proof is None else proof.sentence,
        sureness=clash.weight, hz=clash.centre_hz, low_hz=clash.low_hz, high_hz=clash.high_hz,
        loop_s=clash.worst, clash=clash, entries=[] if clash.entry is None else [clash.entry],
    )  # fmt: skip
