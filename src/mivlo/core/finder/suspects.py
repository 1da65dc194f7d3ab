"""The finder: what behaves like a fault in a track, with the evidence for it and a proposed move."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from scipy.ndimage import maximum_filter1d

from mivlo.core.engine.source import Source
from mivlo.core.errors import ParameterError
from mivlo.core.finder.band_cues import BandCues, band_cues
from mivlo.core.finder.events import Event, find_events
from mivlo.core.finder.kinds import Kind, kind_of_hump, kind_of_line
from mivlo.core.finder.level_map import BANDS_PER_OCTAVE, LevelMap, level_map
from mivlo.core.finder.measures import (
    Notes,
    bell_fit,
    follows_notes,
    proud_of,
    refined_hz,
    ring_time_s,
    stretches,
    track_notes,
)
from mivlo.core.finder.network import Odds, odds
from mivlo.core.finder.proposals import Proposals, propose
from mivlo.core.moves import Move
from mivlo.core.moves.base import Keepers
from mivlo.core.roles import Role
from mivlo.core.units import Floats

__all__ = ["Behaviour", "Findings", "Suspect", "find"]

Behaviour = Literal["steady", "when-loud", "burst"]
MOST_SUSPECTS = 10
LEAST_CONFIDENCE = 0.03
WORTH_MEASURING = 0.1  # of the confidence: how it rings takes longest to measure
LINES_APART, HUMPS_APART = 4, 40  # bands
PROUD_SHARE = 0.5  # of its excess: from there on it counts as present
LEAST_PROUD_DB = 3.0
VOICES: tuple[Role, ...] = ("lead voice", "backing voice")
# What is a good voice's formant, or a bright cymbal, looks much like a fault: doubt it more there.
DOUBTS: Mapping[Role, Mapping[str, float]] = {
    "lead voice": {"hump": 0.6, "harsh": 0.6}, "backing voice": {"hump": 0.6, "harsh": 0.6},
    "cymbals": {"line": 0.7, "harsh": 0.6},
}  # fmt: skip
# Lines are what a drum is made of: one is doubted unless it outlasts what is around it.
STRUCK: tuple[Role, ...] = ("kick", "snare", "toms", "hand percussion")
OUTLASTS, DOUBT_OF_STRUCK = 1.3, 0.5
LOWEST_OF_LOW_TRACKS_HZ = 80.0  # below it a bass's or a kick's fundamental is nobody's fault


@dataclass(frozen=True, slots=True)
class Suspect:
    """One place that behaves like a fault; figures as in definitions.md, unknown ones None."""

    hz: float
    q: float
    excess_db: float
    ring_s: float | None
    ring_around_s: float | None
    share_of_time: float
    follows_notes: bool | None
    loud_only: float  # 0 steady to 1 only when loud
    confidence: float
    kind: Kind
    behaviour: Behaviour
    times: tuple[tuple[float, float], ...]
    around_hz: tuple[float, ...]  # the levels that it was seen in, as evidence
    around_db: tuple[float, ...]
    proposals: Proposals

    @property
    def move(self) -> Move:
        """Return the proposed move: one that stands still for a steady fault."""
        return self.proposals.cut if self.behaviour == "steady" else self.proposals.tame


@dataclass(frozen=True, slots=True)
class Findings:
    """What was found in a stretch: suspects, strongest first, and events by time."""

    suspects: tuple[Suspect, ...]
    events: tuple[Event, ...]


def find(
    source: Source, *, start: int, end: int, sample_rate_hz: float, low_hz: float = 20.0, high_hz: float = 20_000.0,
    role: Role | None = None, keepers: Keepers = (), report: Callable[[float], None] = lambda _: None,
) -> Findings:  # fmt: skip
    """Return suspects and events of a stretch of a track.

    Parameters
    ----------
    source : of the session's rate; start and end in frames
    low_hz, high_hz : limits within which is looked
    role : what the track is, where known: events are looked for in voices, or where it is not known
    keepers : regions in Hz which no suspect may touch
    report : called with the part done, 0 to 1

    Raises
    ------
    ParameterError: an empty stretch, or limits that leave nothing between them

    Source: cues of behaviour (band_cues) joined by fitted weights (network); docs/method.md, docs/figures.md
    """
    start, end = max(start, 0), min(end, source.n_frames)
    if end <= start:
        raise ParameterError(f"a stretch from frame {start} to {end} is empty: it must end after it starts")
    if not 0.0 < low_hz < high_hz:
        raise ParameterError(f"low_hz={low_hz:g} must be above 0 and below high_hz={high_hz:g}")
    events: list[Event] = []
    if role in (None, *VOICES):
        events = find_events(source, start=start, end=end, sample_rate_hz=sample_rate_hz, surely_a_voice=role in VOICES)
        events = [event for event in events if low_hz <= event.hz <= high_hz]
    levels = level_map(source, start=start, end=end, sample_rate_hz=sample_rate_hz)
    report(0.4)
    cues = band_cues(levels)
    report(0.8)
    if cues is None:
        return Findings((), tuple(events))
    stretch = _Stretch(source, start, end, sample_rate_hz, levels, cues, odds(cues))
    lowest = LOWEST_OF_LOW_TRACKS_HZ if role in ("bass", "kick") else 0.0
    allowed = (levels.hz >= max(low_hz, lowest)) & (levels.hz <= high_hz) & (levels.hz < 0.47 * sample_rate_hz)
    for low, high in keepers:
        allowed &= ~((levels.hz >= low) & (levels.hz <= high))
    places = [
        *((band, p, "line") for band, p in _maxima(stretch.odds.line, LINES_APART, allowed)),
        *((band, p, "hump") for band, p in _maxima(stretch.odds.hump, HUMPS_APART, allowed)),
        *((band, p, "harsh") for band, p in _maxima(stretch.odds.harsh, HUMPS_APART, allowed)),
    ]
    doubts = DOUBTS.get(role, {}) if role is not None else {}
    places = [(band, p * doubts.get(shape, 1.0), shape) for band, p, shape in places]
    places.sort(key=lambda place: -place[1])
    notes = track_notes(levels, cues.active)
    suspects = [_doubted(stretch.measured(band, p, shape, notes), role) for band, p, shape in places[:MOST_SUSPECTS]]
    suspects += [_of_events(events, kind, stretch) for kind in ("plosive", "sibilance") if any(e.kind == kind for e in events)]
    report(1.0)
    return Findings(tuple(sorted(suspects, key=lambda suspect: -suspect.confidence)), tuple(events))


def _doubted(suspect: Suspect, role: Role | None) -> Suspect:
    """Return a suspect with less confidence where it is a drum's own mode, as far as one can tell."""
    ring, around = suspect.ring_s, suspect.ring_around_s
    if role not in STRUCK or ring is None or around is None or ring >= OUTLASTS * around:
        return suspect
    return replace(suspect, confidence=DOUBT_OF_STRUCK * suspect.confidence)


def _maxima(curve: np.ndarray, apart: int, allowed: np.ndarray) -> list[tuple[int, float]]:
    top = np.flatnonzero((curve >= maximum_filter1d(curve, 2 * apart + 1)) & (curve >= LEAST_CONFIDENCE) & allowed)
    return [(int(band), float(curve[band])) for band in top]


@dataclass(frozen=True, slots=True)
class _Stretch:
    """What is known of the stretch while its suspects are measured."""

    source: Source
    start: int
    end: int
    rate: float
    levels: LevelMap
    cues: BandCues
    odds: Odds

    def measured(self, band: int, confidence: float, shape: str, notes: Notes) -> Suspect:
        """Return a suspect with its evidence."""
        levels, active = self.levels, self.cues.active
        x = levels.levels_db[active]
        loud_only = float(self.odds.loud_only[band]) if shape == "line" else float(shape == "harsh")
        loudness = levels.power_db[active]
        chosen = loudness >= np.percentile(loudness, 60.0) if loud_only > 0.5 else np.ones(len(active), dtype=bool)
        curve = x[chosen].mean(axis=0)
        wide = shape != "line"
        hz = refined_hz(levels.hz, getattr(self.odds, shape), band) if wide else refined_hz(levels.hz, curve, _top(curve, band))
        fit = bell_fit(curve, band, wide=wide)
        excess_db = max(fit.gain_db, 0.5)
        proud = proud_of(levels, band) if not wide else _hump_over(levels, band)
        present = np.zeros(len(levels.times_s), dtype=bool)
        present[active] = proud[active] > max(PROUD_SHARE * excess_db, LEAST_PROUD_DB)
        ring = around = None
        if not wide and confidence >= WORTH_MEASURING:
            ring, *beside = (
                ring_time_s(self.source, hz * ratio, max(fit.q, 8.0), start=self.start, end=self.end, sample_rate_hz=self.rate)
                for ratio in (1.0, 0.84, 1.19)
            )
            known = [value for value in beside if value is not None]
            around = float(np.median(known)) if known else None
        behaviour: Behaviour = "when-loud" if loud_only > 0.5 else "steady"
        kind: Kind = kind_of_line(hz) if shape == "line" else kind_of_hump(hz) if shape == "hump" else "harsh"
        proposals = propose(
            self.source, hz=hz, q=fit.q, excess_db=excess_db, start=self.start, end=self.end, sample_rate_hz=self.rate
        )  # fmt: skip
        return Suspect(
            hz=hz, q=fit.q, excess_db=excess_db, ring_s=ring, ring_around_s=around,
            share_of_time=float(present[active].mean()),
            follows_notes=None if wide else follows_notes(levels, active, notes, band, proud),
            loud_only=loud_only, confidence=confidence, kind=kind, behaviour=behaviour, times=stretches(present, levels),
            **_around(levels.hz, curve, band, wide=wide), proposals=proposals,
        )  # fmt: skip


def _around(hz: Floats, curve: Floats, band: int, *, wide: bool) -> dict[str, tuple[float, ...]]:
    reach = (2 if wide else 1) * BANDS_PER_OCTAVE
    part = slice(max(band - reach, 0), band + reach + 1)
    return {
        "around_hz": tuple(round(float(v), 2) for v in hz[part]), "around_db": tuple(round(float(v), 2) for v in curve[part]),
    }  # fmt: skip


def _top(curve: np.ndarray, band: int) -> int:
    """Return the highest band within a hit's tolerance."""
    first = max(band - 2, 0)
    return int(first + np.argmax(curve[first : band + 3]))


def _hump_over(levels: LevelMap, band: int) -> np.ndarray:
    """Return (frames,) by how much a third of an octave stands over what lies two thirds to one and a half octaves away."""
    x, third = levels.levels_db, BANDS_PER_OCTAVE // 6
    near, far = 2 * BANDS_PER_OCTAVE // 3, 3 * BANDS_PER_OCTAVE // 2
    sides = [x[:, max(band - far, 0) : max(band - near, 0)], x[:, band + near : band + far]]
    means = [side.mean(axis=1) for side in sides if side.shape[1]]
    middle = x[:, max(band - third, 0) : band + third + 1].mean(axis=1)
    return np.asarray(middle - np.mean(means, axis=0) - np.median(middle - np.mean(means, axis=0)) + LEAST_PROUD_DB + 1.0)


def _of_events(events: Sequence[Event], kind: Literal["plosive", "sibilance"], stretch: _Stretch) -> Suspect:
    """Return the events of a kind as one suspect with many places."""
    chosen = [event for event in events if event.kind == kind]
    over = float(np.median([event.over_db for event in chosen]))
    hz = float(np.median([event.hz for event in chosen]))
    excess = min(over, 24.0)
    proposals = propose(
        stretch.source, hz=hz, q=1.0, excess_db=excess, start=stretch.start, end=stretch.end, sample_rate_hz=stretch.rate,
        start_name=kind,
    )  # fmt: skip
    total = sum(event.end_s - event.start_s for event in chosen)
    length_s = (stretch.end - stretch.start) / stretch.rate
    band = int(np.argmin(np.abs(np.log2(stretch.levels.hz / hz))))
    curve = stretch.levels.levels_db[stretch.cues.active].mean(axis=0)
    return Suspect(
        hz=hz, q=1.0, excess_db=excess, ring_s=None, ring_around_s=None, share_of_time=total / length_s, follows_notes=None,
        loud_only=0.0, confidence=min(0.5 + 0.1 * len(chosen), 0.95) if len(chosen) > 1 else 0.4, kind=kind, behaviour="burst",
        times=tuple((event.start_s, event.end_s) for event in chosen), proposals=proposals,
        **_around(stretch.levels.hz, curve, band, wide=True),
    )  # fmt: skip
