"""What became of a suspect that a move answers, and what moves have taken of the sound around them."""

from collections.abc import Iterable

import numpy as np
from pydantic import BaseModel

from mivlo.core.analyses.base import Analysis, Known, OfStrip, Sound, Work
from mivlo.core.analyses.sounds import frames_between, sound_behind, sound_into
from mivlo.core.errors import NotFoundError, ParameterError
from mivlo.core.finder.verify import BeforeAndAfter, Cure, Verdict, is_over_cut, measure_again, region_lost
from mivlo.core.model import Evidence, Frozen, Group, LedgerEntry, RecordedSession, Track
from mivlo.core.moves import Move
from mivlo.core.moves.capabilities import Placed
from mivlo.core.moves.deeper import deepened

__all__ = ["AskedMove", "CureView", "Cures", "CuresIn", "CuresOf", "Losses", "LossesIn", "RegionLoss", "cures_of"]

LONGEST_LOSS_S = 300.0
LEAST_DEEPER_DB, MOST_DEEPER_DB = 1.0, 6.0  # that an answer which did not cure is offered to go further


class AskedMove(OfStrip):
    """A move of a strip's ledger."""

    entry_id: str


class RegionLoss(BaseModel):
    """What the moves have taken of a track's own loudness around one of them, 0 to 1."""

    entry_id: str
    region_lost: float
    over_cut: bool


class CureView(RegionLoss):
    """What became of the suspect that a move answers; of one that is not cured, the move that takes the rest as well,
    and by how much deeper that is."""

    verdict: Verdict
    deeper: Move | None
    deeper_by_db: float
    excess_before_db: float
    excess_after_db: float
    ring_before_s: float | None
    ring_after_s: float | None


class CuresIn(Frozen):
    """A strip's sound before and behind its ledger, and all that was found in it and answered; `offset_s` is where it
    starts in the session."""

    before: Sound
    after: Sound
    answered: tuple[Evidence, ...]
    offset_s: float
    sample_rate_hz: int

    def number(self, evidence: Evidence) -> int:
        """Return where one of the answered is told."""
        return self.answered.index(evidence)


class CuresOf(Frozen):
    """What became of each; None of one where the sound has moved away."""

    cures: tuple[Cure | None, ...]


class Cures(Analysis[AskedMove, CuresIn, CuresOf]):
    """All suspects of a strip that its moves answer, measured again on the sound behind the whole ledger: together,
    since most of it is listening to the two sounds."""

    name = "cure"
    version = 3
    asked, params, result, shown = AskedMove, CuresIn, CuresOf, CureView

    def question(self, session: RecordedSession, asked: AskedMove, known: Known) -> CuresIn:
        evidence = _entry(session, asked).evidence
        if evidence is None:
            raise NotFoundError(f"move {asked.entry_id} answers no suspect")
        strip = session.strip(asked.strip_id)
        params = cures_of(session, strip)
        if params is None or _frames(params, evidence) is None:
            found = f"from {evidence.start_s:g} to {evidence.end_s:g} s, where it was found"
            raise ParameterError(f"{strip.name} has no sound {found}")
        return params

    def analyse(self, work: Work, params: CuresIn) -> CuresOf:
        sounds = _opened(work, params)
        cures: list[Cure | None] = []
        for number, evidence in enumerate(params.answered, 1):
            stretch = _frames(params, evidence)
            if stretch is None:
                cures.append(None)
                continue
            times = tuple((a - params.offset_s, b - params.offset_s) for a, b in evidence.times)
            cure = measure_again(
                sounds, kind=evidence.kind, hz=evidence.hz, q=evidence.q, behaviour=evidence.behaviour, times=times,
                start=stretch[0], end=stretch[1],
            )  # fmt: skip
            cures.append(cure)
            work.report(number / len(params.answered))
        return CuresOf(cures=tuple(cures))

    def show(self, session: RecordedSession, asked: AskedMove, params: CuresIn, result: CuresOf) -> CureView:
        entry = _entry(session, asked)
        assert entry.evidence is not None
        cure = result.cures[params.number(entry.evidence)]
        assert cure is not None  # a question about it is refused
        by_db = float(np.clip(cure.excess_after_db, LEAST_DEEPER_DB, MOST_DEEPER_DB))
        deeper = None if cure.verdict == "cured" else deepened(entry.move, by_db)
        return CureView(
            deeper=None if deeper == entry.move else deeper, deeper_by_db=round(by_db, 1),
            entry_id=asked.entry_id, verdict=cure.verdict, excess_before_db=cure.excess_before_db,
            excess_after_db=cure.excess_after_db, ring_before_s=cure.ring_before_s,
            ring_after_s=cure.ring_after_s, region_lost=cure.region_lost, over_cut=cure.over_cut,
        )  # fmt: skip

    def foreseen(self, session: RecordedSession) -> Iterable[AskedMove]:
        # Of groups, which sound otherwise with every fader, only what is looked at is measured.
        for track in session.tracks:
            for entry in track.ledger:
                if entry.evidence is not None:
                    yield AskedMove(strip_id=track.id, entry_id=entry.id)


class PlaceOfMove(Frozen):
    """Where a move acts; `times` in seconds of the sound, none: always. No frequency: nothing that could be lost."""

    entry_id: str
    hz: float | None
    times: tuple[tuple[float, float], ...]


class LossesIn(Frozen):
    """A strip's sound before and behind its ledger, and where the moves of that act."""

    before: Sound
    after: Sound
    places: tuple[PlaceOfMove, ...]
    sample_rate_hz: int


class LossesOf(Frozen):
    """What is gone around each move, by its id."""

    lost: dict[str, float]


class Losses(Analysis[AskedMove, LossesIn, LossesOf]):
    """What is gone around each move of a ledger, while it acts, 0 to 1; nothing of one without a place, or meant to
    clear all away."""

    name = "loss"
    version = 2
    asked, params, result, shown = AskedMove, LossesIn, LossesOf, RegionLoss | None

    def question(self, session: RecordedSession, asked: AskedMove, known: Known) -> LossesIn:
        _entry(session, asked)
        strip, rate = session.strip(asked.strip_id), session.sample_rate_hz
        before, start_frame = sound_into(session, strip)
        offset_s = start_frame / rate
        places = []
        for entry in strip.ledger:
            move = entry.move
            hz = move.place_hz if isinstance(move, Placed) and not move.clears_away else None
            times = tuple((a - offset_s, b - offset_s) for a, b in move.times_s)
            places.append(PlaceOfMove(entry_id=entry.id, hz=hz, times=times))
        return LossesIn(
            before=before, after=sound_behind(session, strip)[0], places=tuple(places), sample_rate_hz=rate
        )  # fmt: skip

    def analyse(self, work: Work, params: LossesIn) -> LossesOf:
        sounds, rate, n_frames = _opened(work, params), params.sample_rate_hz, params.before.n_frames
        longest = round(LONGEST_LOSS_S * rate)
        lost = {}
        for place in params.places:
            if place.hz is None:
                continue
            # Of a very long track the middle tells enough.
            first, last = (n_frames - longest) / 2.0, float(n_frames)
            if place.times:
                first, last = place.times[0][0] * rate, place.times[-1][1] * rate
            start = min(max(round(first), 0), n_frames - 1)
            end = min(max(round(last), start + 1), start + longest, n_frames)
            lost[place.entry_id] = region_lost(sounds, hz=place.hz, times=place.times, start=start, end=end)
        return LossesOf(lost=lost)

    def show(
        self, session: RecordedSession, asked: AskedMove, params: LossesIn, result: LossesOf
    ) -> RegionLoss | None:  # fmt: skip
        lost = result.lost.get(asked.entry_id)
        if lost is None:
            return None
        return RegionLoss(entry_id=asked.entry_id, region_lost=lost, over_cut=is_over_cut(lost))


def _frames(params: CuresIn, evidence: Evidence) -> tuple[int, int] | None:
    """Return the stretch of the sound in which a suspect was found; None where there is no sound any more."""
    start_s, end_s = (at - params.offset_s for at in (evidence.start_s, evidence.end_s))
    start, end = frames_between(start_s, end_s, params.before.n_frames, params.sample_rate_hz)
    return (start, end) if end > start else None


def _opened(work: Work, params: CuresIn | LossesIn) -> BeforeAndAfter:
    before, after = (work.open(one.audio_id) for one in (params.before, params.after))
    return BeforeAndAfter(before, after, sample_rate_hz=params.sample_rate_hz)


def cures_of(session: RecordedSession, strip: Track | Group) -> CuresIn | None:
    """Return what tells of all suspects of a strip that its moves answer; None where they answer none."""
    answered = {one.evidence: None for one in strip.ledger if one.evidence is not None}
    if not answered:
        return None
    before, start_frame = sound_into(session, strip)
    rate = session.sample_rate_hz
    return CuresIn(
        before=before, after=sound_behind(session, strip)[0], answered=tuple(answered), offset_s=start_frame / rate,
        sample_rate_hz=rate,
    )  # fmt: skip


def _entry(session: RecordedSession, asked: AskedMove) -> LedgerEntry:
    for entry in session.strip(asked.strip_id).ledger:
        if entry.id == asked.entry_id:
            return entry
    raise NotFoundError(f"move {asked.entry_id} is not in this ledger")
