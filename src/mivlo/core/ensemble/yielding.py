"""From a clash to the move by which one track yields: a dip that listens to the other, as shallow as does the job."""

import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from mivlo.core.engine.source import Source
from mivlo.core.ensemble.contest import Contest, Outcome, contest_between, outcome
from mivlo.core.ensemble.hearing import CAMS, CENTRES_HZ, STEP_CAMS, cams_to_hz
from mivlo.core.ensemble.listening import Heard, MixedTrack
from mivlo.core.ensemble.right_of_way import yield_limit_db
from mivlo.core.errors import ParameterError
from mivlo.core.filters import analog
from mivlo.core.moves import Move
from mivlo.core.moves.base import slice_bell
from mivlo.core.moves.dynamic_flat_bell import DynamicFlatBell
from mivlo.core.moves.flat_bell import FlatBell
from mivlo.core.processors.stage import Context
from mivlo.core.roles import Role
from mivlo.core.units import Array, octaves_to_q

__all__ = [
    "DEEPEST_DB",
    "DEFAULT_PART",
    "NARROWEST_OCTAVES",
    "WIDEST_OCTAVES",
    "Contender",
    "Drafted",
    "Region",
    "Terms",
    "draft_yield",
    "gain_power",
    "mid_share_of",
    "yield_move",
]

DEFAULT_PART = 0.5  # of what can be won
DEEPEST_DB = 24.0  # of a dynamic move
WIDTHS = (0.5, 0.65, 0.8, 1.0, 1.3, 1.8)  # of the region, in octaves: candidates
PLACES = (0.5, 0.35, 0.65, 0.2, 0.8)  # of the region, from its low edge, in octaves: candidates for the centre
NARROWEST_OCTAVES, WIDEST_OCTAVES = 0.2, 3.0
ENOUGH = 0.9  # of what a cut of the whole region by the limit wins: then the cheapest counts
SAFETY = 1.06  # only some moments are looked at: a little more than asked, so that it is not less on the whole
STEPS = 6  # of the search for the least depth
MIDDLE_PAN, MIDDLE_DB = 0.15, 1.5  # a track is in the middle up to there, in its pan and between its channels
# A key opens wholly in most of the moments in which its track sounds there: its threshold lies below them by as much
# as full depth takes.
OPEN_PERCENTILE, RATIO, KNEE_DB, LEAST_THRESHOLD_DB = 8.0, 8.0, 6.0, -80.0
LISTENED_S, BLOCK_FRAMES = 60.0, 8_192
QUIET_DB = 45.0
# A band holds what lies beside its centre, too: a narrow bell does not act on all of it alike.
_BESIDE = np.linspace(-0.4, 0.4, 5)  # steps
_BESIDE_HZ = cams_to_hz(CAMS[:, None] + STEP_CAMS * _BESIDE)
_SHARES = (1.0 - np.abs(_BESIDE)) / np.sum(1.0 - np.abs(_BESIDE))


@dataclass(frozen=True, slots=True)
class Contender:
    """One of the two: its raw sound as a move hears it, where that begins, and what the track is."""

    index: int
    id: str
    source: Source
    start_s: float
    role: Role | None
    pan: float = 0.0


@dataclass(frozen=True, slots=True)
class Region:
    """Where two tracks clash; times in seconds of the session: the key's threshold is set by what it hears there."""

    low_hz: float
    high_hz: float
    times: tuple[tuple[float, float], ...]

    @property
    def octaves(self) -> float:
        """Return how wide it is."""
        return float(np.log2(self.high_hz / self.low_hz))

    @property
    def centre_hz(self) -> float:
        """Return its middle, in octaves."""
        return float(np.sqrt(self.low_hz * self.high_hz))


@dataclass(frozen=True, slots=True)
class Terms:
    """How one is to yield.

    Parameters
    ----------
    part : of what can be won that is to come back, 0 to 1
    limit_db : how deep it may go; None: by what the yielding track is
    is_dynamic : only while the other sounds
    """

    part: float = DEFAULT_PART
    limit_db: float | None = None
    is_dynamic: bool = True


@dataclass(frozen=True, slots=True)
class Drafted:
    """A move for the yielding track, with what the model expects of it.

    Parameters
    ----------
    limit_db : how deep it might go; `capped` tells that it stopped there
    regained : of what can be won in the region (1: as if the other were gone from it)
    costs_percent : of the yielding track's loudness while both play
    """

    move: Move
    limit_db: float
    capped: bool
    regained: float
    costs_percent: float


def draft_yield(
    tracks: Sequence[MixedTrack], heard: Heard, region: Region, terms: Terms, *, front: Contender, yielding: Contender,
    full_scale_db: float, sample_rate_hz: float,
) -> Drafted:  # fmt: skip
    """Return the move by which one track yields to another in a region, least depth first.

    Raises
    ------
    ParameterError: the two never sound together, or a part beyond 0..1

    Source: ours; losses by partial loudness, costs by loudness (`outcome`); the limits are common practice, no
    source. A flat bell: its steep sides cost the yielding track about a third less than a bell's for the same gain
    (bench/ensemble).
    """
    if not 0.0 < terms.part <= 1.0:
        raise ParameterError(f"part={terms.part} must be above 0 and at most 1 (all that can be won)")
    contest = contest_between(
        tracks,
        heard,
        front=front.index,
        yielding=yielding.index,
        low_hz=region.low_hz,
        high_hz=region.high_hz,
        full_scale_db=full_scale_db,
    )
    if contest is None:
        raise ParameterError("these two tracks never sound together: there is nothing to yield")
    limit = yield_limit_db(yielding.role) if terms.limit_db is None else abs(terms.limit_db)
    limit = min(limit, DEEPEST_DB)
    mid_share = mid_share_of(front, yielding, tracks[front.index], region, sample_rate_hz)
    hz, width, depth, result = _least(contest, region, limit, terms.part, 1.0 if mid_share is None else mid_share)
    rest, gone = _ends(contest)
    regained = (result.front - rest.front) / max(gone.front - rest.front, 1e-9)
    costs = 100.0 * (1.0 - result.yielding / max(rest.yielding, 1e-9))
    move = yield_move(
        hz,
        width,
        depth,
        region,
        front=front,
        mid=mid_share is not None,
        is_dynamic=terms.is_dynamic,
        sample_rate_hz=sample_rate_hz,
    )
    return Drafted(move, limit, depth >= limit - 0.05, float(np.clip(regained, 0.0, 1.0)), max(costs, 0.0))


def yield_move(
    hz: float, octaves: float, depth_db: float, region: Region, *, front: Contender, mid: bool, is_dynamic: bool,
    sample_rate_hz: float,
) -> Move:  # fmt: skip
    """Return the move that is a dip of a width, in the middle of two channels or in both; one that is dynamic listens
    to who goes first. Raises nothing. Source: ours."""
    figures: dict[str, Any] = {
        "hz": round(hz, 1),
        "q": round(float(np.clip(octaves_to_q(octaves), 0.3, 12.0)), 2),
        "channel": "mid" if mid else "both",
    }
    return (
        _keyed(figures, depth_db, front, region, sample_rate_hz)
        if is_dynamic
        else FlatBell(**figures, gain_db=-depth_db)
    )


def mid_share_of(front: Contender, yielding: Contender, heard: MixedTrack, region: Region, rate: float) -> float | None:
    """Return which part of a backing's power a dip in its middle reaches; None where the dip is for both channels.

    Raises nothing. Source: ours
    """
    acts = _acts_on_mid(front, yielding, heard)
    return _mid_share(yielding.source, region.centre_hz, rate) if acts else None


def _ends(contest: Contest) -> tuple[Outcome, Outcome]:
    """Return what is heard with nothing cut, and with the other gone from the region."""
    gone = np.ones(len(CENTRES_HZ))
    gone[contest.region] = 0.0
    return outcome(contest, np.ones(len(CENTRES_HZ))), outcome(contest, gone)


_Dip = tuple[float, float, float, Outcome]  # hz, width in octaves, depth in dB, what it gives


def _least(contest: Contest, region: Region, limit_db: float, part: float, mid_share: float) -> _Dip:
    """Return centre, width and least depth of the flat bell that brings the part back at the least cost, and what it
    gives.

    Where none brings it back within the limit: of those that win nearly as much as a cut of the whole region, the
    cheapest.
    """
    rest, gone = _ends(contest)
    target = rest.front + min(SAFETY * part, 1.0) * (gone.front - rest.front)
    octaves = region.octaves
    widths = dict.fromkeys(float(np.clip(factor * octaves, NARROWEST_OCTAVES, WIDEST_OCTAVES)) for factor in WIDTHS)
    tried: list[_Dip] = []
    best: _Dip | None = None
    for width, place in itertools.product(widths, PLACES):
        hz, q = region.low_hz * 2.0 ** (place * octaves), octaves_to_q(width)

        def at(depth_db: float, hz: float = hz, q: float = q) -> Outcome:
            return outcome(contest, gain_power(hz, q, depth_db, mid_share))

        tried.append((hz, width, limit_db, at(limit_db)))
        found = _least_depth(at, tried[-1], target, 0.0 if best is None else best[3].yielding)
        best = best if found is None else found
    if best is not None:
        return best
    flat = np.ones(len(CENTRES_HZ))
    flat[contest.region] = 1.0 - mid_share * (1.0 - 10.0 ** (-limit_db / 10.0))
    could = outcome(contest, flat).front - rest.front
    near = [one for one in tried if one[3].front - rest.front >= ENOUGH * could]
    return max(near, key=lambda one: one[3].yielding) if near else max(tried, key=lambda one: one[3].front)


def _least_depth(at: Callable[[float], Outcome], deepest: _Dip, target: float, keeps: float) -> _Dip | None:
    """Return a dip no deeper than brings a target back; None where it cannot, or leaves the other less than `keeps`."""
    hz, width, high, result = deepest
    if result.front < target:
        return None
    low = 0.0
    for _ in range(STEPS):
        middle = 0.5 * (low + high)
        result = at(middle)
        if result.front >= target:
            high = middle
        elif result.yielding <= keeps:
            return None  # too little, and dearer already
        else:
            low = middle
    depth_db = min(float(np.ceil(high * 10.0) / 10.0), deepest[2])
    result = at(depth_db)
    return (hz, width, depth_db, result) if result.yielding > keeps else None


def gain_power(hz: float, q: float, depth_db: float, mid_share: float) -> Array:
    """Return (bands,) which part of a track's power a dip leaves, where it reaches some share of it. Raises nothing."""
    bell = np.abs(analog.response(analog.flat_bell(hz, -depth_db, q), _BESIDE_HZ)) ** 2 @ _SHARES
    return np.asarray(mid_share * bell + 1.0 - mid_share)


def _acts_on_mid(front: Contender, yielding: Contender, heard: MixedTrack) -> bool:
    """Tell whether a backing is to be carved in its middle: it has two channels, and the other stands in the middle."""
    if yielding.role != "full backing" or yielding.source.n_channels != 2 or abs(front.pan) > MIDDLE_PAN:
        return False
    power = heard.heard.power.sum(axis=(1, 2), dtype=np.float64)
    return bool(abs(10.0 * np.log10((power[0] + 1e-20) / (power[-1] + 1e-20))) < MIDDLE_DB)


def _mid_share(source: Source, hz: float, sample_rate_hz: float) -> float:
    """Return which part of a two-channel sound's power around a frequency is its middle's."""
    # Imported late: it takes longer to load than the rest of the application.
    from scipy.signal import sosfilt

    sides = source.read(0, min(source.n_frames, round(LISTENED_S * sample_rate_hz)))
    sections = [[s.b0, s.b1, s.b2, 1.0, s.a1, s.a2] for s in slice_bell(hz, 1.0, sample_rate_hz)]
    mid, side = (np.mean(sosfilt(sections, one) ** 2) for one in (sides[0] + sides[1], sides[0] - sides[1]))
    return float(mid / max(mid + side, 1e-20))


def _keyed(
    figures: dict[str, Any], depth_db: float, front: Contender, region: Region, sample_rate_hz: float
) -> DynamicFlatBell:
    """Return the dip that listens to the front track in the region, its threshold by what it hears there of the raw
    sound."""
    start = next(start.values for start in DynamicFlatBell.starts if start.label == "give way to")
    move = DynamicFlatBell.model_validate(
        {
            **start,
            **figures,
            "depth_db": -round(max(depth_db, 0.1), 1),
            "ratio": RATIO,
            "knee_db": KNEE_DB,
            "listens_to": front.id,
            "key_hz": round(region.centre_hz, 1),
            "key_q": round(float(np.clip(octaves_to_q(region.octaves), 0.3, 10.0)), 2),
        }
    )
    times_s, levels_db = _heard_by(move, front, region.times, sample_rate_hz)
    within = np.zeros(len(times_s), dtype=bool)
    for first, last in region.times:
        within |= (times_s >= first) & (times_s <= last)
    sounding = levels_db > levels_db.max(initial=-200.0) - QUIET_DB
    chosen = levels_db[within & sounding] if (within & sounding).any() else levels_db[sounding]
    if not len(chosen):
        return move
    full = abs(move.depth_db) / (1.0 - 1.0 / RATIO) + KNEE_DB / 2.0
    threshold = float(np.percentile(chosen, OPEN_PERCENTILE)) - full
    return move.model_copy(update={"threshold_db": round(float(np.clip(threshold, LEAST_THRESHOLD_DB, 0.0)), 1)})


def _heard_by(
    move: DynamicFlatBell, front: Contender, times: tuple[tuple[float, float], ...], sample_rate_hz: float
) -> tuple[Array, Array]:
    """Return times of the session, and the levels that the move's own detector reads of the raw sound."""
    stage = (
        move.model_copy(update={"lookahead_ms": 0.0})
        .stage("y", on=True, keepers=(), sample_rate_hz=sample_rate_hz)
        .make(1, sample_rate_hz)
    )
    first = max(round((times[0][0] - front.start_s - 1.0) * sample_rate_hz), 0) if times else 0
    first = first // BLOCK_FRAMES * BLOCK_FRAMES
    last = min(first + round(LISTENED_S * sample_rate_hz), front.source.n_frames)
    levels: list[Array] = []
    seconds: list[Array] = []

    def read_key(_: str, __: bool, frame: int, n_frames: int) -> Array:
        return front.source.read(first + frame, n_frames)

    for frame in range(0, last - first, BLOCK_FRAMES):
        stage.process(np.zeros((1, BLOCK_FRAMES)), Context(frame, read_key))
        trace = stage.trace()
        assert trace is not None
        levels.append(trace.level_db.copy())
        steps = trace.frame + trace.step_frames * np.arange(len(trace.level_db))
        seconds.append(front.start_s + (first + steps) / sample_rate_hz)
    return (np.concatenate(seconds), np.concatenate(levels)) if levels else (np.zeros(0), np.zeros(0))
