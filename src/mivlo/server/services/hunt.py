"""Hunting: the cellar, what behaves like a fault in a track or group, and what became of it; computed in the pool."""

from functools import lru_cache
from pathlib import Path
from typing import Literal

import numpy as np
from pydantic import BaseModel

from mivlo.core.cellar import Cellar, CellarTrack, PileUp, clear_the_cellar, pile_up
from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import render_track
from mivlo.core.engine.source import ArraySource, Source, open_source
from mivlo.core.errors import NotFoundError, ParameterError
from mivlo.core.finder.audition import Auditions, auditions, keeper_around
from mivlo.core.finder.describe import sentence, sureness
from mivlo.core.finder.kinds import HINTS, Kind
from mivlo.core.finder.pins import PinAnswers, answers_to_pin
from mivlo.core.finder.pitch_line import PitchLine, pitch_line
from mivlo.core.finder.stretch import Findings, Suspect
from mivlo.core.finder.survey import DraftedCut, survey
from mivlo.core.finder.suspects import find
from mivlo.core.finder.verify import Verdict, is_over_cut, measure_again, region_lost
from mivlo.core.model import Behaviour, Dismissed, Evidence, Group, Keeper, LedgerEntry, Track
from mivlo.core.moves import Move
from mivlo.core.moves.base import Keepers
from mivlo.core.moves.capabilities import Placed
from mivlo.core.moves.low_cut import LowCut
from mivlo.core.processors.timed import Spans
from mivlo.core.roles import Role
from mivlo.core.units import hz_to_note
from mivlo.server.services.imports import STORED, stored_path
from mivlo.server.services.pool import in_pool
from mivlo.server.services.state import SessionState
from mivlo.server.services.strips import alone_mix, frames_between, sound_of, stretch_of
from mivlo.server.settings import settings

__all__ = [
    "CellarRow",
    "CellarView",
    "ChosenCuts",
    "CureView",
    "EventView",
    "PitchView",
    "RegionLoss",
    "SurveyCut",
    "SuspectView",
    "Suspects",
    "cellar_of",
    "cure_of",
    "loss_of",
    "pile_up_of",
    "pin_answers_of",
    "pitch_of",
    "survey_of",
    "suspects_of",
]  # fmt: skip

SAME_CENTS = 60.0  # a hit's tolerance: nearer is the same suspect
ENOUGH_TO_SHOW = 0.03
LONGEST_LOSS_S = 300.0


class SuspectView(BaseModel):
    """A suspect as the margin shows it; times in seconds of the session."""

    id: str
    hz: float
    q: float
    kind: Kind
    behaviour: Behaviour
    confidence: float
    sureness: str
    excess_db: float
    ring_s: float | None
    ring_around_s: float | None
    share_of_time: float
    follows_notes: bool | None
    sentence: str
    hint: str
    times: list[tuple[float, float]]
    around_hz: list[float]
    around_db: list[float]
    cut: Move
    tame: Move
    proposed: Literal["cut", "tame"]
    evidence: Evidence
    auditions: Auditions
    keeper: Keeper


class PitchView(BaseModel):
    """The pitch line of a track with one voice, in seconds of the session; gaps are None."""

    one_voice: bool
    times_s: list[float]
    hz: list[float | None]


class EventView(BaseModel):
    """A plosive or a sibilant, in seconds of the session."""

    kind: Literal["plosive", "sibilance"]
    start_s: float
    end_s: float


class Suspects(BaseModel):
    """What was found in a stretch, without what the user has dismissed."""

    start_s: float
    end_s: float
    suspects: list[SuspectView]
    events: list[EventView]
    n_dismissed: int


class RegionLoss(BaseModel):
    """What the moves have taken of a track's own loudness around one of them, 0 to 1."""

    entry_id: str
    region_lost: float
    over_cut: bool


class CureView(RegionLoss):
    """What became of the suspect that a move answers."""

    verdict: Verdict
    excess_before_db: float
    excess_after_db: float
    ring_before_s: float | None
    ring_after_s: float | None


class CellarRow(BaseModel):
    """One track's low end and how high it may be cut; None where nothing is to be gained."""

    track_id: str
    needs_lows: bool
    lowest_note_hz: float | None
    safe: LowCut | None
    in_the_mix: LowCut | None
    low_hz: list[float]
    low_db: list[float]


class CellarView(BaseModel):
    """All tracks' low ends."""

    rows: list[CellarRow]


class ChosenCuts(BaseModel):
    """Low cuts by the ids of their tracks."""

    cuts: dict[str, LowCut]


def cellar_of(state: SessionState) -> CellarView:
    """Return proposals for the lows of all tracks, each beside the others as they are mixed."""
    rows = [
        CellarRow(
            track_id=cut.track_id, needs_lows=cut.needs_lows, lowest_note_hz=cut.lowest_note_hz, safe=cut.safe,
            in_the_mix=cut.in_the_mix, low_hz=list(cut.low_hz), low_db=list(cut.low_db),
        )
        for cut in _whole_cellar(state).tracks
    ]  # fmt: skip
    return CellarView(rows=rows)


def pile_up_of(state: SessionState, cuts: dict[str, LowCut]) -> PileUp:
    """Return how the lows of all tracks add up, before and after the chosen cuts."""
    return pile_up(_whole_cellar(state), cuts)


def _whole_cellar(state: SessionState) -> Cellar:
    tracks = tuple((t.id, t.audio_id, t.start_frame, t.role, t.gain_db) for t in state.tracks if not t.mute)
    end = state.end_frame()
    return _cellar(tracks, end, state.sample_rate_hz)


@lru_cache(maxsize=16)
def _cellar(tracks: tuple[tuple[str, str, int, Role, float], ...], end: int, rate: int) -> Cellar:
    return in_pool(_clear, str(settings().data / "audio"), tracks, end, rate)


def _clear(folder: str, tracks: tuple[tuple[str, str, int, Role, float], ...], end: int, rate: int) -> Cellar:
    mixed = [
        CellarTrack(track_id, open_source(Path(folder) / audio_id / STORED), start_frame, role, gain_db)
        for track_id, audio_id, start_frame, role, gain_db in tracks
    ]
    return clear_the_cellar(mixed, end_frame=end, sample_rate_hz=rate)


def suspects_of(state: SessionState, strip_id: str, *, start_s: float, end_s: float) -> Suspects:
    """Return what behaves like a fault in a stretch of a track, a group, or the mix, before its own moves.

    Raises
    ------
    NotFoundError: no such track or group
    ParameterError: a stretch in which the track has no sound
    """
    strip = state.strip(strip_id)
    rate = state.sample_rate_hz
    audio_id, start, end, offset_s, role = stretch_of(state, strip, start_s, end_s)
    findings = _found(audio_id, start, end, rate, role, strip.keepers)
    shown = [suspect for suspect in findings.suspects if suspect.confidence >= ENOUGH_TO_SHOW]
    kept = [suspect for suspect in shown if not _is_dismissed(suspect, strip.dismissed)]
    return Suspects(
        start_s=start / rate + offset_s,
        end_s=end / rate + offset_s,
        suspects=[_view(suspect, offset_s, start / rate + offset_s, end / rate + offset_s) for suspect in kept],
        events=[
            EventView(kind=e.kind, start_s=e.start_s + offset_s, end_s=e.end_s + offset_s) for e in findings.events
        ],
        n_dismissed=len(shown) - len(kept),
    )


def cure_of(state: SessionState, strip_id: str, entry_id: str) -> CureView:
    """Return what became of the suspect that a move of a ledger answers, measured on the sound behind the whole ledger.

    Raises
    ------
    NotFoundError: no such track, move or evidence
    """
    strip, entry = _entry_of(state, strip_id, entry_id)
    if entry.evidence is None:
        raise NotFoundError(f"move {entry_id} answers no suspect")
    _, offset_s, _, n_frames = sound_of(state, strip)
    cure = _measured(alone_mix(state, strip), entry.evidence, offset_s, n_frames, state.sample_rate_hz)
    return cure.model_copy(update={"entry_id": entry_id})


def loss_of(state: SessionState, strip_id: str, entry_id: str) -> RegionLoss | None:
    """Return what is gone around a move, while it acts; None for one without a place, or meant to clear all away.

    Raises
    ------
    NotFoundError: no such track or move
    """
    strip, entry = _entry_of(state, strip_id, entry_id)
    move = entry.move
    if move.clears_away or not isinstance(move, Placed):
        return None
    _, offset_s, _, n_frames = sound_of(state, strip)
    times = tuple((a - offset_s, b - offset_s) for a, b in move.times_s)
    lost = _lost(alone_mix(state, strip), move.place_hz, times, n_frames, state.sample_rate_hz)
    return RegionLoss(entry_id=entry_id, region_lost=lost, over_cut=is_over_cut(lost))


def _entry_of(state: SessionState, strip_id: str, entry_id: str) -> tuple[Track | Group, LedgerEntry]:
    strip = state.strip(strip_id)
    entry = next((one for one in strip.ledger if one.id == entry_id), None)
    if entry is None:
        raise NotFoundError(f"move {entry_id} is not in this ledger")
    return strip, entry


def pin_answers_of(
    state: SessionState, strip_id: str, *, hz: float, width_octaves: float, excess_db: float | None
) -> PinAnswers:  # fmt: skip
    """Return what may be said to a pin of a track, a group or the mix; raises NotFoundError."""
    audio_id, *_ = sound_of(state, state.strip(strip_id))
    return in_pool(_pin_answers, stored_path(audio_id), hz, width_octaves, excess_db, state.sample_rate_hz)


def _pin_answers(path: Path, hz: float, width_octaves: float, excess_db: float | None, rate: int) -> PinAnswers:
    return answers_to_pin(
        open_source(path), hz=hz, width_octaves=width_octaves, excess_db=excess_db, sample_rate_hz=rate
    )


def pitch_of(state: SessionState, strip_id: str) -> PitchView:
    """Return the pitch line of a track; raises NotFoundError."""
    strip = state.strip(strip_id)
    audio_id, offset_s, _, n_frames = sound_of(state, strip)
    line = _pitch(audio_id, n_frames, state.sample_rate_hz)
    return PitchView(
        one_voice=line.one_voice, times_s=np.round(line.times_s + offset_s, 3).tolist(),
        hz=[None if np.isnan(hz) else round(float(hz), 2) for hz in line.hz],
    )  # fmt: skip


@lru_cache(maxsize=32)
def _pitch(audio_id: str, n_frames: int, rate: int) -> PitchLine:
    return in_pool(_pitch_line, stored_path(audio_id), n_frames, rate)


def _pitch_line(path: Path, n_frames: int, rate: int) -> PitchLine:
    return pitch_line(open_source(path), start=0, end=n_frames, sample_rate_hz=rate)


class SurveyCut(BaseModel):
    """One drafted cut, with what was heard there."""

    move: Move
    excess_db: float
    share_of_time: float
    nearest_note: str


def survey_of(
    state: SessionState, strip_id: str, *, start_s: float, end_s: float, low_hz: float, high_hz: float, amount: float
) -> list[SurveyCut]:  # fmt: skip
    """Return shallow cuts at what belongs to no note played in a stretch; raises as `suspects_of`."""
    strip = state.strip(strip_id)
    audio_id, start, end, _, _ = stretch_of(state, strip, start_s, end_s)
    keepers = tuple((keeper.low_hz, keeper.high_hz) for keeper in strip.keepers)
    cuts = in_pool(_survey, stored_path(audio_id), start, end, state.sample_rate_hz, low_hz, high_hz, amount, keepers)
    return [
        SurveyCut(
            move=cut.move, excess_db=cut.excess_db, share_of_time=cut.share_of_time, nearest_note=cut.nearest_note
        )
        for cut in cuts
    ]


def _survey(
    path: Path, start: int, end: int, rate: int, low_hz: float, high_hz: float, amount: float, keepers: Keepers
) -> list[DraftedCut]:  # fmt: skip
    source = open_source(path)
    return survey(
        source,
        start=start,
        end=end,
        sample_rate_hz=rate,
        low_hz=low_hz,
        high_hz=high_hz,
        amount=amount,
        keepers=keepers,
    )


@lru_cache(maxsize=64)
def _found(audio_id: str, start: int, end: int, rate: int, role: Role | None, keepers: tuple[Keeper, ...]) -> Findings:
    return in_pool(_find, stored_path(audio_id), start, end, rate, role, tuple((k.low_hz, k.high_hz) for k in keepers))


def _find(path: Path, start: int, end: int, rate: int, role: Role | None, keepers: Keepers) -> Findings:
    return find(open_source(path), start=start, end=end, sample_rate_hz=rate, role=role, keepers=keepers)


@lru_cache(maxsize=128)
def _measured(mix: Mix, evidence: Evidence, offset_s: float, n_frames: int, rate: int) -> CureView:
    return in_pool(_measure, str(settings().data / "audio"), mix, evidence, offset_s, n_frames, rate)


def _measure(folder: str, mix: Mix, evidence: Evidence, offset_s: float, n_frames: int, rate: int) -> CureView:
    start, end = frames_between(evidence.start_s - offset_s, evidence.end_s - offset_s, n_frames, rate)
    if end <= start:
        found = f"from {evidence.start_s:g} to {evidence.end_s:g} s, where it was found"
        raise ParameterError(f"{mix.tracks[0].id} has no sound {found}")
    before, treated = _before_and_after(folder, mix, start, end, rate)
    cure = measure_again(
        before, treated, kind=evidence.kind, hz=evidence.hz, q=evidence.q, behaviour=evidence.behaviour,
        times=tuple((a - offset_s - start / rate, b - offset_s - start / rate) for a, b in evidence.times), start=0,
        end=end - start, sample_rate_hz=rate,
    )  # fmt: skip
    return CureView(
        entry_id="",
        verdict=cure.verdict,
        excess_before_db=cure.excess_before_db,
        excess_after_db=cure.excess_after_db,
        ring_before_s=cure.ring_before_s,
        ring_after_s=cure.ring_after_s,
        region_lost=cure.region_lost,
        over_cut=cure.over_cut,
    )


@lru_cache(maxsize=128)
def _lost(mix: Mix, hz: float, times: Spans, n_frames: int, rate: int) -> float:
    return in_pool(_measure_loss, str(settings().data / "audio"), mix, hz, times, n_frames, rate)


def _measure_loss(folder: str, mix: Mix, hz: float, times: Spans, n_frames: int, rate: int) -> float:
    # Of a very long track the middle tells enough, and memory stays bounded.
    over = max(n_frames - round(LONGEST_LOSS_S * rate), 0)
    first, last = (times[0][0] * rate, times[-1][1] * rate) if times else (over / 2, n_frames)
    start = min(max(round(first), 0), n_frames - 1)
    end = min(max(round(last), start + 1), start + round(LONGEST_LOSS_S * rate), n_frames)
    before, treated = _before_and_after(folder, mix, start, end, rate)
    within = tuple((a - start / rate, b - start / rate) for a, b in times)
    return region_lost(before, treated, hz=hz, times=within, start=0, end=end - start, sample_rate_hz=rate)


def _before_and_after(folder: str, mix: Mix, start: int, end: int, rate: int) -> tuple[Source, Source]:
    """Return a stretch of the one track of a mix without and with its ledger."""

    def open_stored(audio_id: str) -> Source:
        return open_source(Path(folder) / audio_id / STORED)

    strip = mix.tracks[0]
    blocks = render_track(
        mix, strip.id, open_stored, start=strip.start_frame + start, end=strip.start_frame + end, sample_rate_hz=rate
    )
    return ArraySource(open_stored(strip.audio_id).read(start, end - start)), ArraySource(
        np.concatenate(list(blocks), axis=1)
    )


def _is_dismissed(suspect: Suspect, dismissed: tuple[Dismissed, ...]) -> bool:
    return any(
        abs(1_200.0 * np.log2(suspect.hz / one.hz)) <= SAME_CENTS and (suspect.q < 4.0) == one.wide for one in dismissed
    )


def _view(suspect: Suspect, offset_s: float, start_s: float, end_s: float) -> SuspectView:
    note, _ = hz_to_note(suspect.hz)
    times = [(a + offset_s, b + offset_s) for a, b in suspect.times]
    evidence = Evidence(
        kind=suspect.kind,
        hz=suspect.hz,
        q=suspect.q,
        excess_db=suspect.excess_db,
        ring_s=suspect.ring_s,
        start_s=start_s,
        end_s=end_s,
        times=tuple(times),
        behaviour=suspect.behaviour,
    )
    return SuspectView(
        id=f"{suspect.kind}-{note}-{suspect.hz:.0f}",
        hz=suspect.hz,
        q=suspect.q,
        kind=suspect.kind,
        behaviour=suspect.behaviour,
        confidence=suspect.confidence,
        sureness=sureness(suspect.confidence),
        excess_db=suspect.excess_db,
        ring_s=suspect.ring_s,
        ring_around_s=suspect.ring_around_s,
        share_of_time=suspect.share_of_time,
        follows_notes=suspect.follows_notes,
        sentence=sentence(suspect),
        hint=HINTS[suspect.kind],
        times=times,
        around_hz=list(suspect.around_hz),
        around_db=list(suspect.around_db),
        cut=suspect.proposals.cut,
        tame=suspect.proposals.tame,
        proposed="cut" if suspect.behaviour == "steady" else "tame",
        evidence=evidence,
        auditions=auditions(hz=suspect.hz, q=suspect.q, excess_db=suspect.excess_db),
        keeper=keeper_around(suspect.hz, suspect.q),
    )
