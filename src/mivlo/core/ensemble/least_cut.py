"""The fewest cuts that make room for everybody: a set of yields over all clashes, heard anew as it grows."""

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from mivlo.core.ensemble.clashes import Clash
from mivlo.core.ensemble.contest import SOUNDING_DB, region_bands
from mivlo.core.ensemble.hearing import CENTRES_HZ
from mivlo.core.ensemble.listening import Heard, MixedTrack, ear_powers, hear_powers
from mivlo.core.ensemble.right_of_way import yield_limit_db
from mivlo.core.ensemble.yielding import NARROWEST_OCTAVES, WIDEST_OCTAVES, gain_power
from mivlo.core.roles import Role
from mivlo.core.units import Array, Floats, octaves_to_q

__all__ = [
    "Candidate", "Fader", "Plan", "Scene", "Step", "candidates_of", "dip_in", "dipped", "fader_instead", "plan_of",
    "scene_of",
]  # fmt: skip

MOST_FRAMES = 120  # looked at, spread over the song
MOST_MOVES = 12
COST_COUNTS = 0.02  # of a sone of cost, beside a sone of gain: of two that win as much, the cheaper
LEAST_OF_ALL = 0.01  # of what was won so far, that one more move must win
SOUNDING_SHARE = 0.05  # of a track's loud moments: below, it does not play
FADER_STEPS_DB = (0.5, 1.0, 1.5, 2.0, 2.5, 3.0)
NO_CUT: frozenset[int] = frozenset()


@dataclass(frozen=True, slots=True)
class Candidate:
    """A dip by which one track would yield to another: numbers of tracks, the clash's region and times, and the dip."""

    front: int
    yielding: int
    low_hz: float
    high_hz: float
    times: tuple[tuple[float, float], ...]
    hz: float
    octaves: float
    depth_db: float


@dataclass(frozen=True, slots=True)
class Step:
    """A move of a plan: which candidate, and what the plan gains and costs with it, in sone as defined."""

    candidate: Candidate
    gain_sone: float
    cost_sone: float


@dataclass(frozen=True, slots=True)
class Plan:
    """Moves in the order in which they are worth most; `gain_sone` of the whole is what can be won so."""

    steps: tuple[Step, ...]

    @property
    def gain_sone(self) -> float:
        """Return what all moves together gain."""
        return self.steps[-1].gain_sone if self.steps else 0.0

    @property
    def cost_sone(self) -> float:
        """Return what they cost."""
        return self.steps[-1].cost_sone if self.steps else 0.0


@dataclass(frozen=True, slots=True)
class Fader:
    """A fader that wins as much for one track as all yields to it: by how many dB it is raised."""

    track: int
    raised_db: float
    gain_sone: float


def candidates_of(
    clashes: Sequence[Clash], order: Sequence[int], roles: Sequence[Role | None], *, firsts: Sequence[int | None]
) -> list[Candidate]:  # fmt: skip
    """Return a dip for each clash in which the one that goes first is hidden; as wide as the clash, as deep as its role
    yields.

    Parameters
    ----------
    order : numbers of the tracks, those that go first in front
    firsts : who goes first in each clash; None: both stay

    Raises
    ------
    Nothing. Source: ours; limits are common practice, no source
    """
    found = []
    for clash, first in zip(clashes, firsts, strict=True):
        if clash.by is None or clash.same_sound or first != clash.hidden:
            continue
        limit_db = yield_limit_db(roles[clash.by])
        found.append(dip_in(clash.hidden, clash.by, clash.low_hz, clash.high_hz, limit_db, times=clash.times))
    return found


def dip_in(
    front: int, yielding: int, low_hz: float, high_hz: float, depth_db: float,
    *, times: tuple[tuple[float, float], ...] = (),
) -> Candidate:  # fmt: skip
    """Return the dip that is as wide as a region, within what a dip may be. Raises nothing. Source: ours."""
    octaves = float(np.clip(np.log2(high_hz / low_hz), NARROWEST_OCTAVES, WIDEST_OCTAVES))
    return Candidate(
        front=front, yielding=yielding, low_hz=low_hz, high_hz=high_hz, times=times,
        hz=float(np.sqrt(low_hz * high_hz)), octaves=octaves, depth_db=depth_db,
    )  # fmt: skip


def dipped(
    tracks: Sequence[MixedTrack], dips: Sequence[Candidate], *, reached: Sequence[float], is_dynamic: bool = True
) -> list[MixedTrack]:  # fmt: skip
    """Return all tracks as they would be heard with some dips; figures as in `scene_of`.

    Raises
    ------
    Nothing. Source: the dips' powers, band by band, as the plan hears them
    """
    found = list(tracks)
    for one, share in zip(dips, reached, strict=True):
        heard = found[one.yielding].heard
        frames = np.arange(heard.power.shape[1])
        own = ear_powers([tracks[one.front]], frames)[:, 0, :, region_bands(one.low_hz, one.high_hz)]
        acts = _sounds(own) if is_dynamic else slice(None)
        power = np.array(heard.power)
        power[:, acts] *= gain_power(one.hz, octaves_to_q(one.octaves), one.depth_db, share).astype(np.float32)
        found[one.yielding] = replace(found[one.yielding], heard=replace(heard, power=power))
    return found


def _sounds(powers: Floats) -> np.ndarray:
    """Return (frames,) when a track sounds in a region, of its (ears, frames, bands) there."""
    own = powers.sum(axis=(0, 2))
    return np.asarray(own > np.percentile(own, 95.0) * 10.0 ** (-SOUNDING_DB / 10.0))


@dataclass(frozen=True)
class Scene:
    """What a plan is heard in: `powers` (ears, tracks, frames, bands) at the ear, what each candidate leaves of its
    track's power, (candidates, frames, bands), and what counts of each front track, (tracks, frames, bands)."""

    powers: Floats
    left: Floats
    yielding: np.ndarray
    counts: Floats
    playing: np.ndarray

    @cached_property
    def _rest(self) -> tuple[Array, Array]:
        loudness, kept, _ = hear_powers(self.powers)
        return self._won(kept), self._own(loudness)

    def _won(self, kept: Floats) -> Array:
        return np.asarray((kept * self.counts).sum(axis=(1, 2)), dtype=np.float64)

    def _own(self, loudness: Floats) -> Array:
        played = loudness.sum(axis=2) * self.playing
        return np.asarray(played.sum(axis=1) / np.maximum(self.playing.sum(axis=1), 1), dtype=np.float64)

    def heard(self, cuts: frozenset[int], *, raised: tuple[int, float] | None = None) -> tuple[float, float]:
        """Return gain and cost, in sone, of some candidates together, and of a fader raised by so many dB."""
        powers = self.powers.copy()
        for cut in cuts:
            powers[:, self.yielding[cut]] *= self.left[cut]
        if raised is not None:
            powers[:, raised[0]] *= np.float32(10.0 ** (raised[1] / 10.0))
        loudness, kept, _ = hear_powers(powers)
        won, own = self._rest
        cost = np.maximum(own - self._own(loudness), 0.0)
        return float((self._won(kept) - won).sum()), float(cost.sum())


def scene_of(
    tracks: Sequence[MixedTrack], heard: Heard, candidates: Sequence[Candidate], order: Sequence[int], *,
    full_scale_db: float, reached: Sequence[float], is_dynamic: bool = True,
) -> Scene:  # fmt: skip
    """Return where plans of some candidates are heard.

    Parameters
    ----------
    order : numbers of the tracks, those that go first in front
    reached : of each candidate, which part of its track's power the dip reaches
    is_dynamic : a dip acts only while the one that goes first sounds there

    Raises
    ------
    Nothing. Source: gain and cost as defined; loudness as `hear`
    """
    n_frames = heard.loudness.shape[1]
    frames = np.unique(np.linspace(0, n_frames - 1, min(n_frames, MOST_FRAMES)).astype(int))
    powers = ear_powers(tracks, frames) * np.float32(10.0 ** (full_scale_db / 10.0))
    regions = np.zeros((len(tracks), len(CENTRES_HZ)), dtype=bool)
    left = np.ones((len(candidates), len(frames), len(CENTRES_HZ)), dtype=np.float32)
    for number, one in enumerate(candidates):
        bands = region_bands(one.low_hz, one.high_hz)
        regions[one.front, bands] = True
        acts = _sounds(powers[:, one.front, :, bands]) if is_dynamic else slice(None)
        left[number, acts] = gain_power(one.hz, octaves_to_q(one.octaves), one.depth_db, reached[number])
    counts = np.zeros((len(tracks), len(frames), len(CENTRES_HZ)), dtype=np.float32)
    loudness = heard.loudness[:, frames]
    for track in np.flatnonzero(regions.any(axis=1)):
        there = loudness[track][:, regions[track]].sum(axis=1)
        sounds = there > SOUNDING_SHARE * max(float(np.percentile(there, 95.0)), 1e-9)
        weight = 1.0 / (1.0 + list(order).index(int(track))) / max(int(sounds.sum()), 1)
        counts[track][np.ix_(sounds, regions[track])] = weight
    yielding = np.array([one.yielding for one in candidates], dtype=np.int64)
    return Scene(powers, left, yielding, counts, heard.sounding[:, frames])


def plan_of(scene: Scene, candidates: Sequence[Candidate], *, most: int = MOST_MOVES) -> Plan:
    """Return a plan of at most so many moves: always the one that wins most on what is there already.

    What a move was worth before bounds what it is worth now, so that few are heard anew for each step (M. Minoux,
    "Accelerated greedy algorithms for maximizing submodular set functions", 1978; from memory).

    Raises
    ------
    Nothing. Source: ours
    """
    chosen: list[int] = []
    steps: list[Step] = []
    gain, cost = 0.0, 0.0

    def heard(number: int) -> tuple[int, float, float]:
        return number, *scene.heard(frozenset((*chosen, number)))

    def worth(trial: tuple[int, float, float]) -> float:
        return trial[1] - gain - COST_COUNTS * (trial[2] - cost)

    with ThreadPoolExecutor(2) as both:
        last = {trial[0]: trial for trial in both.map(heard, range(len(candidates)))}
        bounds = {number: worth(trial) for number, trial in last.items()}
        while bounds and len(chosen) < most:
            fresh: set[int] = set() if chosen else set(bounds)
            while True:
                ranked = sorted(bounds, key=lambda one: -bounds[one])
                if ranked[0] in fresh:
                    break
                for trial in both.map(heard, [one for one in ranked[:4] if one not in fresh]):
                    last[trial[0]], bounds[trial[0]] = trial, worth(trial)
                    fresh.add(trial[0])
            best = ranked[0]
            _, new_gain, new_cost = last[best]
            if new_gain - gain <= LEAST_OF_ALL * gain or bounds[best] <= 0.0:
                break
            chosen.append(best)
            gain, cost = new_gain, new_cost
            steps.append(Step(candidates[best], gain, cost))
            del bounds[best]
    return Plan(tuple(steps))


def fader_instead(scene: Scene, plan: Plan) -> list[Fader]:
    """Return, for each track that somebody yields to, the least that its fader would have to be raised to win as much
    as all of those yields; none where no more than a little does.

    Raises nothing. Source: ours
    """
    found = []
    for track in dict.fromkeys(step.candidate.front for step in plan.steps):
        mine = frozenset(
            number
            for number, step in enumerate(plan.steps)
            if step.candidate.front == track
        )  # fmt: skip
        before = 0.0
        wanted = 0.0
        for number, step in enumerate(plan.steps):
            wanted += step.gain_sone - before if number in mine else 0.0
            before = step.gain_sone
        for raised_db in FADER_STEPS_DB:
            gain, _ = scene.heard(NO_CUT, raised=(track, raised_db))
            if gain >= wanted:
                found.append(Fader(track, raised_db, gain))
                break
    return found
