"""Tracks of one source that stand against each other in polarity, or shifted."""

from collections.abc import Iterable
from itertools import combinations

import numpy as np
from pydantic import BaseModel

from mivlo.core.alignment import Placed, placed, relation_between
from mivlo.core.analyses.base import Analysis, Known, OfSession, Sound, Work
from mivlo.core.analyses.sounds import sound_into
from mivlo.core.model import Frozen, RecordedSession
from mivlo.core.units import Array

__all__ = ["RelatedTrack", "Relations", "RelationsOf", "TrackRelation"]

LOWS_HZ = 250.0
LISTENED_S = 20.0
LEAST_SHIFT_S = 1e-4


class RelatedTrack(Frozen):
    """A track as it stands in the mix."""

    id: str
    sound: Sound
    start_frame: int
    flipped: bool


class RelationsIn(Frozen):
    """All tracks."""

    tracks: tuple[RelatedTrack, ...]
    sample_rate_hz: int


class TrackRelation(BaseModel):
    """Two tracks of one source: `shift_frames` by which the second comes later, as it stands; `flipped` where both
    work against each other.

    `lows_win_db`: what their sum wins below 250 Hz when the second is put right.
    """

    first: str
    second: str
    shift_frames: int
    flipped: bool
    is_sure: bool
    likeness: float
    lows_win_db: float


class RelationsOf(BaseModel):
    """All pairs of one source."""

    pairs: list[TrackRelation]


class Relations(Analysis[OfSession, RelationsIn, RelationsOf]):
    """Which tracks hold one source, and how they stand to one another."""

    name = "relations"
    hangs_on_all = True
    asked, params, result = OfSession, RelationsIn, RelationsOf

    def question(self, session: RecordedSession, asked: OfSession, known: Known) -> RelationsIn:
        tracks = []
        for track in session.tracks:
            sound, start = sound_into(session, track)
            tracks.append(RelatedTrack(id=track.id, sound=sound, start_frame=start, flipped=track.polarity_flipped))
        return RelationsIn(tracks=tuple(tracks), sample_rate_hz=session.sample_rate_hz)

    def analyse(self, work: Work, params: RelationsIn) -> RelationsOf:
        found = []
        rate = params.sample_rate_hz
        end = max((one.start_frame + one.sound.n_frames for one in params.tracks), default=0)
        places = {
            one.id: placed(
                work.open(one.sound.audio_id), start_frame=one.start_frame, session_frames=end, sample_rate_hz=rate
            )
            for one in params.tracks
        }
        pairs = list(combinations(params.tracks, 2))
        for number, (one, other) in enumerate(pairs):
            related = _related(places[one.id], places[other.id], one, other, rate)
            if related is not None:
                found.append(related)
            work.report((number + 1) / len(pairs))
        return RelationsOf(pairs=found)

    def foreseen(self, session: RecordedSession) -> Iterable[OfSession]:
        return (OfSession(),) if len(session.tracks) > 1 else ()


def _related(one: Placed, other: Placed, a: RelatedTrack, b: RelatedTrack, rate: int) -> TrackRelation | None:
    relation = relation_between(one, other, sample_rate_hz=rate)
    if not relation.is_one_source:
        return None
    flipped = relation.flipped != (a.flipped != b.flipped)
    if abs(relation.shift_frames) <= LEAST_SHIFT_S * rate and not flipped:
        return None
    win_db = _lows_win_db(one, other, a, b, relation.shift_frames, flipped, rate)
    return TrackRelation(
        first=a.id, second=b.id, shift_frames=relation.shift_frames, flipped=flipped, is_sure=relation.is_sure,
        likeness=relation.likeness, lows_win_db=win_db,
    )  # fmt: skip


def _lows_win_db(
    one: Placed, other: Placed, a: RelatedTrack, b: RelatedTrack, shift: int, flipped: bool, rate: int
) -> float:  # fmt: skip
    """Return what the lows of both together win when the second is put right, both as they were recorded."""
    start = max(a.start_frame, b.start_frame)
    end = min(a.start_frame + a.sound.n_frames, b.start_frame + b.sound.n_frames)
    n_frames = min(end - start, round(LISTENED_S * rate))
    middle = start + (end - start - n_frames) // 2

    def lows(sound: Placed, track: RelatedTrack, at: int) -> Array:
        x = sound.source.read(at - track.start_frame, n_frames).mean(axis=0)
        return np.asarray(np.fft.rfft(x)[: round(LOWS_HZ * n_frames / rate)] * (-1.0 if track.flipped else 1.0))

    first, second, right = lows(one, a, middle), lows(other, b, middle), lows(other, b, middle + shift)
    now, then = (np.sum(np.abs(first + both) ** 2) + 1e-20 for both in (second, -right if flipped else right))
    return float(10.0 * np.log10(then / now))
