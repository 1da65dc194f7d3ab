"""What a plane or a survey learns from a stretch: by how much each place adds to what passes it.

Two witnesses: lines that behave like faults (the finder's odds, each with its likely bell), and places that lift
whatever passes them (the place curve) where the finder at least suspects something.
"""

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import maximum_filter1d, uniform_filter1d

from mivlo.core.engine.source import Source
from mivlo.core.errors import ParameterError
from mivlo.core.finder.band_cues import BandCues, band_cues
from mivlo.core.finder.bells import BellFit, bell_curve, bell_of
from mivlo.core.finder.level_map import BANDS_PER_OCTAVE, LOUD_PERCENTILE, LevelMap, level_map
from mivlo.core.finder.network import odds
from mivlo.core.finder.place_curve import PlaceCurve, place_curve_of
from mivlo.core.finder.places import places
from mivlo.core.finder.searches.lines import DOUBTS, place_hz
from mivlo.core.moves.plane import MOST_PLACES, Plane
from mivlo.core.roles import Role
from mivlo.core.units import Array, Floats

__all__ = ["Learned", "Lifting", "learn", "places_of"]

LEAST_ODDS = 0.003  # of a line: below it is none
FROM_ODDS, SURE_ODDS = 0.02, 0.22  # below the first it adds nothing, above the second all of its bell
HARSH_FROM, HARSH_RANGE = 0.1, 0.3
# Strokes are brighter the harder they are: what looks harsh there is doubted, also where nobody said what plays. They
# have fewer lines at a time than what is sung, blown, bowed or strummed.
STROKES_LINES, NOTES_LINES, DOUBT_OF_STROKES = 18.0, 24.0, 0.3
LOUD_S, BLOCKS_AT_ONCE, ACTIVE_DB = 1.0 / 24.0, 256, 40.0
CURVE_TREND = 41  # bands: two thirds of an octave, over which a place stands out of its curve
LEAST_DB, OVER_WOBBLE, GIVEN_BACK = 1.0, 1.0, 1.5  # what of the curve counts; it tells about two thirds of a lift
MOST_DB = 18.0  # what seems to be lifted further is a note
SURE_FROM, SURE_RANGE = 0.3, 0.3
SUSPECTED = 0.05  # odds at which the curve is believed in full
LINE_FINE_DB = 0.25  # how far straight lines between places may leave what was learned


@dataclass(frozen=True, slots=True)
class Lifting:
    """A line that lifts what passes it, with its likely bell; `odds` from 0 to 1, `loud_only` likewise."""

    hz: float
    bell: BellFit
    odds: float
    loud_only: float

    @property
    def weight(self) -> float:
        """Return how much of the bell is believed, 0 to 1."""
        return float(np.clip((self.odds - FROM_ODDS) / (SURE_ODDS - FROM_ODDS), 0.0, 1.0))


@dataclass(frozen=True, slots=True)
class Learned:
    """What a stretch tells: `added_db` (bands,), 0 or above, at the bands of a level map; its lines; its curve.

    `loud_db` (bands,): what is added only in the loud moments, which are those from `loud_from_db` on: the level of a
    twenty-fourth of a second. `of_curve_db` (bands,): what of `added_db` is read off the curve. `levels`: what
    all of it was learned from.
    """

    added_db: Array
    loud_db: Array
    loud_from_db: float
    of_curve_db: Array
    lines: tuple[Lifting, ...]
    curve: PlaceCurve
    levels: LevelMap

    def in_plane(self, plane: Plane) -> Plane:
        """Return a plane that has learned this; where nothing adds anything, it knows that: two places at 0 dB."""
        nothing = ((plane.low_hz, 0.0), (plane.high_hz, 0.0))
        update = {
            "places": places_of(self.levels.hz, self.added_db) or nothing,
            "loud_places": places_of(self.levels.hz, self.loud_db),
            "loud_from_db": round(float(np.clip(self.loud_from_db, -90.0, 0.0)), 1),
        }
        return Plane.model_validate(plane.model_dump() | update)


def learn(
    source: Source, *, start: int, end: int, sample_rate_hz: float, low_hz: float, high_hz: float,
    role: Role | None = None,
) -> Learned:  # fmt: skip
    """Return what the places between two limits add to what passes them in a stretch.

    Raises
    ------
    ParameterError: an empty stretch or limits; where too little sounds, nothing is learned

    Source: `place_curve_of`, the finder's odds and likely bells; how the two are joined was chosen on banks that
    nothing is tested on (docs/method.md)
    """
    if end <= start:
        raise ParameterError(f"a stretch from frame {start} to {end} is empty: it must end after it starts")
    if not 0.0 < low_hz < high_hz:
        raise ParameterError(f"low_hz={low_hz:g} must be above 0 and below high_hz={high_hz:g}")
    levels = level_map(source, start=start, end=end, sample_rate_hz=sample_rate_hz)
    curve = place_curve_of(levels)
    added, loud = np.zeros(len(levels.hz)), np.zeros(len(levels.hz))
    cues = band_cues(levels)
    if cues is None:
        return Learned(added, loud, 0.0, added, (), curve, levels)
    likely = odds(cues)
    inside = (levels.hz >= low_hz) & (levels.hz <= high_hz)
    lines = tuple(_lifting(levels, cues, likely.line, likely.loud_only, inside))
    for line in lines:
        bell = BellFit(line.bell.gain_db * line.weight, line.bell.q)
        added = np.maximum(added, bell_curve(bell, line.hz, len(levels.hz)))
    doubt = DOUBTS.get(role, {}).get("harsh", 1.0) if role is not None else 1.0
    if role is None:
        doubt = float(np.interp(cues["lines a frame"][0], [STROKES_LINES, NOTES_LINES], [DOUBT_OF_STROKES, 1.0]))
    for band, p in places(likely.harsh, "harsh", inside):
        weight = float(np.clip((p * doubt - HARSH_FROM) / HARSH_RANGE, 0.0, 1.0))
        bell = bell_of(levels, cues.active, float(levels.hz[band]), wide=True, when_loud=True)
        harsh = bell_curve(BellFit(bell.gain_db * weight, bell.q), float(levels.hz[band]), len(levels.hz))
        loud = np.maximum(loud, np.where(inside, np.minimum(harsh, MOST_DB), 0.0))
    over = curve.db - uniform_filter1d(curve.db, CURVE_TREND, mode="nearest")
    wobble = 1.4826 * float(np.median(np.abs(over[inside] - np.median(over[inside])))) if inside.any() else 0.0
    believed = np.clip((curve.sure - SURE_FROM) / SURE_RANGE, 0.0, 1.0)
    believed *= np.clip(maximum_filter1d(likely.line, 5) / SUSPECTED, 0.0, 1.0)
    of_curve = GIVEN_BACK * np.maximum(over - max(LEAST_DB, OVER_WOBBLE * wobble), 0.0) * believed
    loud_from_db = _loud_from_db(source, start, end, sample_rate_hz) if loud.any() else 0.0
    of_curve = np.where(inside, of_curve, 0.0)
    added = np.where(inside, np.minimum(np.maximum(added, of_curve), MOST_DB), 0.0)
    return Learned(added, loud, loud_from_db, of_curve, lines, curve, levels)


def _loud_from_db(source: Source, start: int, end: int, sample_rate_hz: float) -> float:
    """Return the level above which the louder two fifths of what sounds lie."""
    size = round(LOUD_S * sample_rate_hz)
    powers = []
    for at in range(start, end, size * BLOCKS_AT_ONCE):
        x = source.read(at, min(size * BLOCKS_AT_ONCE, end - at))
        blocks = x[:, : x.shape[1] // size * size].reshape(len(x), -1, size)
        powers.append(np.mean(np.asarray(blocks, dtype=np.float64) ** 2, axis=(0, 2)))
    level_db = 10.0 * np.log10(np.concatenate(powers) + 1e-15)
    sounding = level_db > level_db.max() - ACTIVE_DB
    return float(np.percentile(level_db[sounding], LOUD_PERCENTILE))


def _lifting(
    levels: LevelMap, cues: BandCues, line: Floats, loud_only: Floats, inside: np.ndarray
) -> list[Lifting]:  # fmt: skip
    mean_db = levels.levels_db[cues.active].mean(axis=0)
    found = []
    for band, p in places(line, "line", inside):
        if p > LEAST_ODDS:
            hz = place_hz(levels.hz, mean_db, line, band)
            bell = bell_of(levels, cues.active, hz, wide=False, when_loud=loud_only[band] > 0.5)
            found.append(Lifting(hz, bell, float(p), float(loud_only[band])))
    return found


def places_of(hz: Floats, added_db: Array, *, most: int = MOST_PLACES) -> tuple[tuple[float, float], ...]:
    """Return (Hz, dB) pairs, rising, between which straight lines over log Hz follow a curve (bands,), 0 dB outside.

    Each stretch above 0 dB begins and ends with a pair at 0 dB. As few pairs as keep within a quarter of a dB, or the
    best `most` of them.

    Raises
    ------
    Nothing.

    Source: Ramer-Douglas-Peucker, measured along the dB axis
    """
    fine_db = LINE_FINE_DB
    at = np.log2(hz) * BANDS_PER_OCTAVE
    while True:
        standing = np.concatenate([[False], added_db > fine_db, [False]])
        edges = np.flatnonzero(np.diff(standing.astype(np.int8)))
        chosen: dict[int, float] = {}
        for first, last in zip(edges[::2], edges[1::2], strict=True):
            a, b = max(int(first) - 1, 0), min(int(last), len(hz) - 1)
            part = added_db[a : b + 1].copy()
            part[0] = part[-1] = 0.0
            chosen |= {a + index: float(part[index]) for index in _kept(at[a : b + 1], part, fine_db)}
        if len(chosen) <= most:
            return tuple((round(float(hz[band]), 2), round(db, 2)) for band, db in sorted(chosen.items()))
        fine_db *= 1.5


def _kept(at: Floats, db: Array, fine_db: float) -> list[int]:
    kept, open_parts = {0, len(db) - 1}, [(0, len(db) - 1)]
    while open_parts:
        a, b = open_parts.pop()
        if b - a < 2:
            continue
        off = np.abs(db[a : b + 1] - np.interp(at[a : b + 1], [at[a], at[b]], [db[a], db[b]]))
        worst = a + int(off.argmax())
        if off.max() > fine_db:
            kept.add(worst)
            open_parts += [(a, worst), (worst, b)]
    return sorted(kept)
