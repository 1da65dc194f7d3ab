"""Lines, humps and wide harshness: the maxima of what the cues amount to, each measured."""

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np
from scipy.ndimage import uniform_filter1d
from scipy.special import logit

from mivlo.core.finder.bells import bell_of, ring_q
from mivlo.core.finder.kinds import STRUCK, Kind, kind_of_hump, kind_of_line
from mivlo.core.finder.level_map import BANDS_PER_OCTAVE, LevelMap, loud_frames
from mivlo.core.finder.measures import follows_notes, lowest_note_hz, proud_of, refined_hz, ring_time_s, runs, stretches
from mivlo.core.finder.places import SHAPES, Shape, places
from mivlo.core.finder.proposals import propose
from mivlo.core.finder.stretch import Stretch, Suspect, around
from mivlo.core.model import Behaviour
from mivlo.core.roles import Role

__all__ = ["DOUBTS", "place_hz", "search"]

MOST_SUSPECTS = 10
WORTH_MEASURING = 0.03  # of the confidence: how it rings takes longest to measure
PROUD_SHARE, LEAST_PROUD_DB = 0.5, 3.0  # of its excess: from there on it counts as present
LOUD_ONLY_FROM = 0.5
AGREE_CENTS = 15.0
# Bands either side, bands of a trend, and how far a mean curve without lines departs from its own trend at most.
HAZE_REACH, HAZE_SMOOTH, HAZE_DB = BANDS_PER_OCTAVE // 2, 15, 1.3
# What is a good voice's formant, a bright cymbal, or the edge of a hard stroke, looks much like a fault: doubt it
# more there.
DOUBTS: Mapping[Role, Mapping[str, float]] = {
    "lead voice": {"hump": 0.6, "harsh": 0.6}, "backing voice": {"hump": 0.6, "harsh": 0.6},
    "cymbals": {"line": 0.7, "harsh": 0.6}, **{role: {"harsh": 0.3} for role in STRUCK},
}  # fmt: skip
# What outlasts the other lines of its track rings, whatever else it looks like: its odds grow as the square of by how
# much. Lines are what a drum is made of: one that does not is doubted there.
OUTLASTS, MOST_OUTLASTING, DOUBT_OF_STRUCK = 1.3, 3.0, 0.5
RESTLESS_DB = 1.5  # how much a track's loudness varies: of one that varies less, nothing can be loud-only


def search(stretch: Stretch) -> list[Suspect]:
    """Return what the network takes for a fault, strongest first."""
    doubts = DOUBTS.get(stretch.role, {}) if stretch.role is not None else {}
    likely: list[tuple[int, float, Shape]] = [
        (band, p * doubts.get(shape, 1.0), shape)
        for shape in SHAPES
        for band, p in places(getattr(stretch.odds, shape), shape, stretch.allowed)
    ]
    if stretch.cues["unrest"][0] < RESTLESS_DB:
        likely = [(band, p, "hump" if shape == "harsh" else shape) for band, p, shape in likely]
    likely.sort(key=lambda place: -place[1])
    found = [_measured(stretch, band, p, shape) for band, p, shape in likely[:MOST_SUSPECTS]]
    return [_weighed(suspect, found, stretch.role) for suspect in found]


def _weighed(suspect: Suspect, others: Sequence[Suspect], role: Role | None) -> Suspect:
    """Return a suspect with the confidence that its ring time, beside that of the other lines, leaves or adds."""
    ring, p = suspect.ring_s, suspect.confidence
    known = [one.ring_s for one in others if one is not suspect and one.ring_s is not None]
    usual = float(np.median(known)) if known else suspect.ring_around_s
    # Of what nobody named, all may be modes that ring as they like, as a cymbal's do.
    if ring is None or usual is None or role is None:
        return suspect
    if ring < OUTLASTS * usual:
        return replace(suspect, confidence=DOUBT_OF_STRUCK * p) if role in STRUCK else suspect
    odds = p / max(1.0 - p, 1e-6) * min(ring / (OUTLASTS * usual), MOST_OUTLASTING) ** 2
    return replace(suspect, confidence=odds / (1.0 + odds))


def _measured(stretch: Stretch, band: int, confidence: float, shape: Shape) -> Suspect:
    """Return a suspect with its evidence."""
    levels, active = stretch.levels, stretch.cues.active
    loud_only = float(stretch.odds.loud_only[band]) if shape == "line" else float(shape == "harsh")
    when_loud = loud_only > LOUD_ONLY_FROM
    chosen = loud_frames(levels, active) if when_loud else active
    curve = levels.levels_db[chosen].mean(axis=0)
    wide = shape != "line"
    hz = float(levels.hz[band]) if wide else place_hz(levels.hz, curve, stretch.odds.line, band)
    fit = bell_of(levels, active, hz, wide=wide, when_loud=when_loud)
    excess_db = max(fit.gain_db, 0.5)
    proud = proud_of(levels, band) if not wide else _hump_over(levels, band)
    present = np.zeros(len(levels.times_s), dtype=bool)
    present[active] = proud[active] > max(PROUD_SHARE * excess_db, LEAST_PROUD_DB)
    times = stretches(present, levels)
    loud = np.zeros(len(levels.times_s), dtype=bool)
    loud[chosen] = True
    ring = ring_around = None
    if not wide and confidence >= WORTH_MEASURING:
        first, last, q = stretch.start, stretch.end, ring_q(curve, band)
        ring, *beside = (
            ring_time_s(stretch.source, hz * ratio, q, start=first, end=last, sample_rate_hz=stretch.rate)
            for ratio in (1.0, 0.84, 1.19)
        )
        known = [value for value in beside if value is not None]
        ring_around = float(np.median(known)) if known else None
    behaviour: Behaviour = "when-loud" if when_loud else "steady"
    lowest_hz = lowest_note_hz(levels, stretch.notes)
    kind: Kind = "harsh"
    if shape == "line":
        kind = kind_of_line(hz, lowest_note_hz=lowest_hz)
    elif shape == "hump":
        kind = kind_of_hump(hz, role=stretch.role, is_haze=_is_haze(curve, band), lowest_note_hz=lowest_hz)
    proposals = propose(
        stretch.source,
        hz=hz,
        q=fit.q,
        excess_db=excess_db,
        start=stretch.start,
        end=stretch.end,
        sample_rate_hz=stretch.rate,
        times=runs(loud, levels) if wide or when_loud else times,
    )
    return Suspect(
        hz=hz, q=fit.q, excess_db=excess_db, ring_s=ring, ring_around_s=ring_around,
        share_of_time=float(present[active].mean()),
        follows_notes=None if wide else follows_notes(levels, active, stretch.notes, band, proud),
        loud_only=loud_only, confidence=confidence, kind=kind, behaviour=behaviour, times=times,
        **around(levels.hz, curve, band, wide=wide), proposals=proposals,
    )  # fmt: skip


def _is_haze(curve: np.ndarray, band: int) -> bool:
    """Tell whether an octave around a band holds noise rather than lines: its mean levels then follow their own
    trend."""
    part = curve[max(band - HAZE_REACH, 0) : band + HAZE_REACH + 1]
    return bool(np.std(part - uniform_filter1d(part, HAZE_SMOOTH, mode="nearest")) < HAZE_DB)


def place_hz(hz: np.ndarray, curve: np.ndarray, odds: np.ndarray, band: int) -> float:
    """Return where a line is: at the top of the levels beside a band where the odds agree with it, else at that of
    the odds.

    The highest level near a weak line may be a partial of what is played.
    """
    first = max(band - 2, 0)
    seen = refined_hz(hz, curve, int(first + np.argmax(curve[first : band + 3])))
    likely = refined_hz(hz, logit(odds), band)
    return seen if 1_200.0 * abs(np.log2(seen / likely)) <= AGREE_CENTS else likely


def _hump_over(levels: LevelMap, band: int) -> np.ndarray:
    """Return (frames,) by how much a third of an octave stands over what lies two thirds to one and a half octaves
    away."""
    x, third = levels.levels_db, BANDS_PER_OCTAVE // 6
    near, far = 2 * BANDS_PER_OCTAVE // 3, 3 * BANDS_PER_OCTAVE // 2
    sides = [x[:, max(band - far, 0) : max(band - near, 0)], x[:, band + near : band + far]]
    means = [side.mean(axis=1) for side in sides if side.shape[1]]
    middle = x[:, max(band - third, 0) : band + third + 1].mean(axis=1)
    return np.asarray(
        middle - np.mean(means, axis=0) - np.median(middle - np.mean(means, axis=0)) + LEAST_PROUD_DB + 1.0
    )
