"""Rows of suspects: of tracks, groups and the mix; what became of those that were answered."""

from collections.abc import Iterator, Sequence

import numpy as np

from mivlo.core.analyses.base import OfStrip
from mivlo.core.analyses.cures import AskedMove, Cures
from mivlo.core.analyses.in_mix import InMixOf, MovesInMix, SuspectInMix
from mivlo.core.analyses.suspects import AskedStretch, SuspectsOf, SuspectView
from mivlo.core.finder.kinds import VERBS, Kind
from mivlo.core.model import Group, LedgerEntry, RecordedSession, Track
from mivlo.core.round.order import weight_of
from mivlo.core.round.row import Lookup, RoundRow, StripSuspect, cents, joined
from mivlo.core.units import hz_text

__all__ = ["CURES", "IN_MIX", "MOVES_IN_MIX", "SUSPECTS", "of_group", "of_marks", "of_suspects", "shared"]

LEAST_CONFIDENCE = 0.1  # below it a suspect is not worth a row; the bench still has it
SAME_CENTS, SHARED_CENTS = 60.0, 25.0
LOOP_S, LEAD_S = 3.0, 0.4
SUSPECTS, IN_MIX, MOVES_IN_MIX, CURES = SuspectsOf(), InMixOf(), MovesInMix(), Cures()


def of_suspects(lookup: Lookup, track: Track) -> list[RoundRow]:
    """Return what was found in a track, and what was answered there. Raises nothing. Source: ours."""
    shown = lookup.shown(SUSPECTS, AskedStretch(strip_id=track.id))
    in_mix = lookup.shown(IN_MIX, OfStrip(strip_id=track.id))
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
    return entry.evidence.kind == suspect.kind and cents(entry.evidence.hz, suspect.hz) <= SAME_CENTS


def _row_of_suspect(
    lookup: Lookup, track: Track, suspect: SuspectView, mine: SuspectInMix | None, entry: LedgerEntry | None
) -> RoundRow:  # fmt: skip
    change_db = mine.change_db if mine is not None else None
    move = suspect.cut if suspect.proposed == "cut" else suspect.tame
    by_db = abs(float(getattr(move, "gain_db", getattr(move, "depth_db", 0.0))))
    covered = lookup.session.strip(mine.covered_by).name if mine is not None and mine.covered_by else None
    row = RoundRow(
        id=f"suspect {track.id} {suspect.id}", kind="suspect", status="to judge",
        weight=weight_of(suspect.confidence, *((1.0, 1.0) if mine is None else (mine.change_db, mine.in_mix_db))),
        strip_ids=[track.id],
        sentence=f"{track.name} {_fault(suspect.kind, suspect.hz)}", evidence=suspect.sentence,
        proposes=f"{suspect.proposed} by {by_db:.1f} dB at {suspect.hz:.0f} Hz", sureness=suspect.sureness,
        confidence=suspect.confidence, hz=suspect.hz, heard=None if mine is None else mine.heard, change_db=change_db,
        in_mix_db=None if mine is None else mine.in_mix_db, covered_by=covered,
        loop_s=_loop(suspect, mine), suspects=[StripSuspect(strip_id=track.id, suspect=suspect)],
    )  # fmt: skip
    return row if entry is None else _answered(lookup, track, row, entry)


def _fault(kind: Kind, hz: float) -> str:
    return VERBS[kind] if kind in ("plosive", "sibilance") else f"{VERBS[kind]} at {hz_text(hz)}"


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


def _answered(lookup: Lookup, track: Track, row: RoundRow, entry: LedgerEntry) -> RoundRow:
    """Return a row with what became of it, measured; one that is not cured is to be judged again while it is heard."""
    answered = row.model_copy(update={"status": "done", "proposes": "", "entries": [(track.id, entry.id)]})
    if not entry.move.on:
        return answered.model_copy(update={"outcome": "the move is off"})
    asked = AskedMove(strip_id=track.id, entry_id=entry.id)
    cure = lookup.shown(CURES, asked) if track.acts else None
    if cure is None:
        return answered.model_copy(update={"outcome": "is being measured", "is_measuring": True})
    outcome = f"{cure.verdict}: {cure.excess_before_db:.1f} dB before, {max(cure.excess_after_db, 0.0):.1f} after"
    if cure.over_cut:
        outcome += "; more is gone than stood out"
    moved = lookup.shown(MOVES_IN_MIX, asked, waits=False)
    if moved is not None:
        outcome += "; heard in the mix" if moved.heard != "lost" else "; not heard in the mix"
    if cure.verdict == "cured" or row.heard == "lost":
        return answered.model_copy(update={"outcome": outcome})
    if cure.deeper is None:
        return answered.model_copy(update={"outcome": outcome})
    again = {
        "status": "to judge", "outcome": outcome, "deeper": cure.deeper,
        "proposes": f"{cure.deeper_by_db:.1f} dB deeper",
    }  # fmt: skip
    return answered.model_copy(update=again)


def _row_of_answer(lookup: Lookup, track: Track, entry: LedgerEntry) -> RoundRow:
    evidence = entry.evidence
    assert evidence is not None
    verb = VERBS.get(evidence.kind, f"has a {evidence.kind}")  # type: ignore[call-overload]
    row = RoundRow(
        id=f"answer {track.id} {entry.id}", kind="suspect", status="done", weight=0.0, strip_ids=[track.id],
        sentence=f"{track.name} {verb} at {hz_text(evidence.hz)}", evidence=entry.reason, hz=evidence.hz,
    )  # fmt: skip
    return _answered(lookup, track, row, entry)


def of_marks(track: Track) -> Iterator[RoundRow]:
    """Yield what the user has judged that is no fault: it stays in the list."""
    for number, keeper in enumerate(track.keepers):
        middle = float(np.sqrt(keeper.low_hz * keeper.high_hz))
        yield RoundRow(
            id=f"keeper {track.id} {number}", kind="suspect", status="done", weight=0.0, strip_ids=[track.id],
            sentence=f"{track.name} keeps {hz_text(keeper.low_hz)} to {hz_text(keeper.high_hz)}", evidence="",
            outcome="wanted", hz=middle,
        )  # fmt: skip
    for number, place in enumerate(track.dismissed):
        yield RoundRow(
            id=f"dismissed {track.id} {number}", kind="suspect", status="done", weight=0.0, strip_ids=[track.id],
            sentence=f"{track.name} at {hz_text(place.hz)}", evidence="", outcome="not a fault", hz=place.hz,
        )  # fmt: skip


def shared(session: RecordedSession, rows: Sequence[RoundRow]) -> list[RoundRow]:
    """Join the same fault of several tracks into one row: it is answered once."""
    twins = {track.id: track.twin_id for track in session.tracks}
    names = {track.id: track.name for track in session.tracks}
    places = list(names)
    found: list[RoundRow] = []
    for row in sorted(rows, key=lambda one: -one.weight):
        same = next((at for at, other in enumerate(found) if _is_same(row, other, twins)), None)
        if same is None:
            found.append(row)
            continue
        first = found[same]
        strips = [*first.strip_ids, *row.strip_ids]
        sentence = f"{joined([names[one] for one in strips])} {_plural(first.suspects[0].suspect)}"
        # Named after the track that comes first, whichever weighs more: a row keeps its name while it is listened to.
        name = min(first, row, key=lambda one: min(map(places.index, one.strip_ids))).id
        found[same] = first.model_copy(
            update={"id": name, "strip_ids": strips, "sentence": sentence, "suspects": [*first.suspects, *row.suspects]}
        )
    return found


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
    return cents(one.hz, first.hz) <= (SAME_CENTS if are_twins else SHARED_CENTS) and (are_twins or alike)


def _plural(suspect: SuspectView) -> str:
    verb = VERBS[suspect.kind]
    plain = verb.replace("is ", "are ", 1) if verb.startswith("is ") else _without_s(verb)
    return f"{plain} at {hz_text(suspect.hz)}, all of them"


def _without_s(verb: str) -> str:
    word, _, rest = verb.partition(" ")
    stem = word[:-2] if word.endswith(("shes", "ches", "zzes")) else word[:-1]
    return f"{stem} {rest}".strip()


def of_group(lookup: Lookup, group: Group, rows: Sequence[RoundRow]) -> list[RoundRow]:
    """Return what stands out of a group or the mix and of none of the tracks."""
    view = lookup.shown(SUSPECTS, AskedStretch(strip_id=group.id), waits=False)
    if view is None:
        return []
    places = [row.hz for row in rows if row.hz is not None]
    found = []
    for suspect in view.suspects:
        if suspect.confidence < LEAST_CONFIDENCE or any(cents(suspect.hz, hz) <= SAME_CENTS for hz in places):
            continue
        found.append(
            RoundRow(
                id=f"suspect {group.id} {suspect.id}", kind="suspect", status="to judge",
                weight=weight_of(suspect.confidence, suspect.excess_db, suspect.excess_db), strip_ids=[group.id],
                sentence=f"{group.name} {_fault(suspect.kind, suspect.hz)}", evidence=suspect.sentence,
                sureness=suspect.sureness, confidence=suspect.confidence, hz=suspect.hz, loop_s=_loop(suspect, None),
                suspects=[StripSuspect(strip_id=group.id, suspect=suspect)],
            )
        )  # fmt: skip
    return found
