"""What became of a suspect that a move answers, and what moves have taken of the sound around them."""

from collections.abc import Iterable

import numpy as np
from pydantic import BaseModel

from mivlo.core.analyses.base import Analysis, Known, OfStrip, Sound, Work
from mivlo.core.analyses.sounds import alone, frames_between
from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import render_track
from mivlo.core.engine.source import ArraySource, Source
from mivlo.core.errors import NotFoundError, ParameterError
from mivlo.core.finder.verify import Cure, Verdict, is_over_cut, measure_again, region_lost
from mivlo.core.model import Evidence, Frozen, LedgerEntry, RecordedSession
from mivlo.core.moves import Move
from mivlo.core.moves.capabilities import Placed
from mivlo.core.moves.deeper import deepened

__all__ = ["AskedMove", "CureIn", "CureView", "Cures", "LossIn", "Losses", "RegionLoss"]

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


class CureIn(Frozen):
    """A strip alone with its ledger, and what was found in it; `offset_s` is where it starts in the session."""

    mix: Mix
    sound: Sound
    evidence: Evidence
    offset_s: float
    sample_rate_hz: int


class Cures(Analysis[AskedMove, CureIn, Cure]):
    """A suspect measured again on the sound behind the whole ledger."""

    name = "cure"
    version = 2
    asked, params, result, shown = AskedMove, CureIn, Cure, CureView

    def question(self, session: RecordedSession, asked: AskedMove, known: Known) -> CureIn:
        evidence = _entry(session, asked).evidence
        if evidence is None:
            raise NotFoundError(f"move {asked.entry_id} answers no suspect")
        mix, sound, start_frame = alone(session, session.strip(asked.strip_id))
        rate = session.sample_rate_hz
        return CureIn(mix=mix, sound=sound, evidence=evidence, offset_s=start_frame / rate, sample_rate_hz=rate)

    def analyse(self, work: Work, params: CureIn) -> Cure:
        evidence, offset_s, rate = params.evidence, params.offset_s, params.sample_rate_hz
        n_frames = params.sound.n_frames
        start, end = frames_between(evidence.start_s - offset_s, evidence.end_s - offset_s, n_frames, rate)
        if end <= start:
            found = f"from {evidence.start_s:g} to {evidence.end_s:g} s, where it was found"
            raise ParameterError(f"{params.mix.tracks[0].id} has no sound {found}")
        before, treated = _before_and_after(work, params.mix, start, end, rate)
        times = tuple((a - offset_s - start / rate, b - offset_s - start / rate) for a, b in evidence.times)
        return measure_again(
            before, treated, kind=evidence.kind, hz=evidence.hz, q=evidence.q, behaviour=evidence.behaviour,
            times=times, start=0, end=end - start, sample_rate_hz=rate,
        )  # fmt: skip

    def show(self, session: RecordedSession, asked: AskedMove, params: CureIn, result: Cure) -> CureView:
        move, by_db = (
            _entry(session, asked).move,
            float(np.clip(result.excess_after_db, LEAST_DEEPER_DB, MOST_DEEPER_DB)),
        )
        deeper = None if result.verdict == "cured" else deepened(move, by_db)
        return CureView(
            deeper=None if deeper == move else deeper, deeper_by_db=round(by_db, 1),
            entry_id=asked.entry_id, verdict=result.verdict, excess_before_db=result.excess_before_db,
            excess_after_db=result.excess_after_db, ring_before_s=result.ring_before_s,
            ring_after_s=result.ring_after_s, region_lost=result.region_lost, over_cut=result.over_cut,
        )  # fmt: skip

    def foreseen(self, session: RecordedSession) -> Iterable[AskedMove]:
        # Of groups, which sound otherwise with every fader, only what is looked at is measured.
        for track in session.tracks:
            for entry in track.ledger:
                if entry.evidence is not None:
                    yield AskedMove(strip_id=track.id, entry_id=entry.id)


class LossIn(Frozen):
    """A strip alone with its ledger, and a place in it; `times` in seconds of the sound; no place: nothing to lose."""

    mix: Mix
    sound: Sound
    hz: float | None
    times: tuple[tuple[float, float], ...]
    sample_rate_hz: int


class Losses(Analysis[AskedMove, LossIn, float | None]):
    """What is gone around a move, while it acts, 0 to 1; None for one without a place, or meant to clear all away."""

    name = "loss"
    asked, params, result, shown = AskedMove, LossIn, float | None, RegionLoss | None

    def question(self, session: RecordedSession, asked: AskedMove, known: Known) -> LossIn:
        move = _entry(session, asked).move
        mix, sound, start_frame = alone(session, session.strip(asked.strip_id))
        offset_s = start_frame / session.sample_rate_hz
        return LossIn(
            mix=mix, sound=sound, hz=move.place_hz if isinstance(move, Placed) and not move.clears_away else None,
            times=tuple((a - offset_s, b - offset_s) for a, b in move.times_s), sample_rate_hz=session.sample_rate_hz,
        )  # fmt: skip

    def analyse(self, work: Work, params: LossIn) -> float | None:
        if params.hz is None:
            return None
        n_frames, rate, times = params.sound.n_frames, params.sample_rate_hz, params.times
        # Of a very long track the middle tells enough, and memory stays bounded.
        over = max(n_frames - round(LONGEST_LOSS_S * rate), 0)
        first, last = (times[0][0] * rate, times[-1][1] * rate) if times else (over / 2, n_frames)
        start = min(max(round(first), 0), n_frames - 1)
        end = min(max(round(last), start + 1), start + round(LONGEST_LOSS_S * rate), n_frames)
        before, treated = _before_and_after(work, params.mix, start, end, rate)
        within = tuple((a - start / rate, b - start / rate) for a, b in times)
        return float(
            region_lost(before, treated, hz=params.hz, times=within, start=0, end=end - start, sample_rate_hz=rate)
        )

    def show(
        self, session: RecordedSession, asked: AskedMove, params: LossIn, result: float | None
    ) -> RegionLoss | None:
        if result is None:
            return None
        return RegionLoss(entry_id=asked.entry_id, region_lost=result, over_cut=is_over_cut(result))


def _entry(session: RecordedSession, asked: AskedMove) -> LedgerEntry:
    for entry in session.strip(asked.strip_id).ledger:
        if entry.id == asked.entry_id:
            return entry
    raise NotFoundError(f"move {asked.entry_id} is not in this ledger")


def _before_and_after(work: Work, mix: Mix, start: int, end: int, rate: int) -> tuple[Source, Source]:
    """Return a stretch of the first track of a mix without and with its ledger."""
    strip = mix.tracks[0]
    first = strip.start_frame + start
    blocks = render_track(mix, strip.id, work.open, start=first, end=strip.start_frame + end, sample_rate_hz=rate)
    before = ArraySource(work.open(strip.audio_id).read(start, end - start))
    return before, ArraySource(np.concatenate(list(blocks), axis=1))
