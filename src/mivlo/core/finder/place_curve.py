"""The place curve: by how much room, body and microphone lift or lower what passes each place, whatever is played.

Every line of every moment is taken for the sum of four things, in dB: a plain outline of the moment, what its distance
from the root gives (the overtone series of the source), what its place gives (the filter), and chance. While the notes
move, the four come apart. Of one held note they do not, and nothing is said to be sure.
"""

from dataclasses import dataclass

import numpy as np
from scipy.linalg import cho_factor, cho_solve
from scipy.ndimage import maximum_filter1d, minimum_filter1d, uniform_filter1d

from mivlo.core.engine.source import Source
from mivlo.core.errors import ParameterError
from mivlo.core.finder.level_map import BANDS_PER_OCTAVE, LevelMap, active_frames, level_map
from mivlo.core.units import Array, Floats

__all__ = ["SURE", "PlaceCurve", "place_curve", "place_curve_of"]

SURE = 0.6  # of `sure`: from here on a place's figure is worth believing
FEWEST_LINES = 20
LINE_REACH_DB, LINE_BANDS, LINE_PROUD_DB = 80.0, 9, 1.0  # below the frame's power; what stands a little over its sides
OUTLINE_ORDER = 4  # cosines over the whole axis: finer ones would take up the places themselves
OUTLINE_SD_DB = (1_000.0, 12.0, 8.0, 5.0)  # how far the outlines of moments differ
LINE_SD_DB = 6.0  # of one line around its outline
NOTE_SD_DB = 12.0  # of all lines that one note sends past a place
# What places do is a little like what their neighbours do: within a fifth of an octave, and within two lines.
WIDE_SD_DB, WIDE_BANDS, FINE_SD_DB, FINE_BANDS = 3.0, 12.0, 3.0, 2.5
FAR_OFF_DB = 8.0  # a line further off than that counts less and less
WHOLE_PASS_FRAMES = 4.0  # a note that stays so long has half of a pass's weight
NOTE_BANDS = 5  # a semitone: notes nearer to each other are the same note
OVERTONES, HIGHEST_ROOT_BAND = 10, 480
ROUNDS = 6


@dataclass(frozen=True, slots=True)
class PlaceCurve:
    """What each place at `hz` (bands,) does, 60 to an octave.

    `db` (bands,): above 0 it lifts what passes; `loud_db` (bands,): how much more it does so in the louder half of the
    moments; `sure` (bands,): 0 where nothing passed, 1 where many different notes did; `passes` (bands,): about how
    many.
    """

    hz: Floats
    db: Array
    loud_db: Array
    sure: Array
    passes: Array


@dataclass(frozen=True, slots=True)
class _Lines:
    """All lines (lines,): frame, band, level under the frame's power, band less root + bands; and which pass of a note
    past a band each belongs to, the passes (passes,) with their bands."""

    frame: np.ndarray
    band: np.ndarray
    level_db: Array
    from_root: np.ndarray
    pass_of: np.ndarray
    pass_band: np.ndarray


def place_curve(source: Source, *, start: int, end: int, sample_rate_hz: float) -> PlaceCurve:
    """Return the place curve of a stretch.

    Raises
    ------
    ParameterError: an empty stretch

    Source: as `place_curve_of`
    """
    if end <= start:
        raise ParameterError(f"a stretch from frame {start} to {end} is empty: it must end after it starts")
    return place_curve_of(level_map(source, start=start, end=end, sample_rate_hz=sample_rate_hz))


def place_curve_of(levels: LevelMap) -> PlaceCurve:
    """Return the place curve of a level map; flat, and sure of nothing, where hardly anything sounds.

    A curve's mean, slope and widest bends belong to no place: they are taken off, so that 0 dB is what the whole does.

    Raises
    ------
    Nothing.

    Source: source and filter told apart in the log spectrum (A. Klapuri, "Analysis of musical instrument sounds by
    source-filter-decay model", ICASSP 2007); a fixed channel as what is common to all frames (B. Atal, JASA 55(6),
    1974; H. Hermansky, N. Morgan, IEEE TSAP 2(4), 1994); places smoothed by kriging, which also tells how sure they are
    (C. Rasmussen, C. Williams, Gaussian Processes for Machine Learning, 2006, ch. 2); all from memory
    """
    n_bands = len(levels.hz)
    nothing = np.zeros(n_bands)
    active = active_frames(levels)
    lines = _lines(levels.levels_db[active].astype(np.float64), levels.power_db[active])
    if lines is None:
        return PlaceCurve(levels.hz, nothing, nothing, nothing, nothing)
    likeness = _likeness(n_bands)
    place, of_root = nothing, np.zeros(2 * n_bands)
    outlines = _Outlines(lines, n_bands)
    weights = np.ones(len(lines.band))
    for _ in range(ROUNDS):
        over_db = lines.level_db - outlines.under(
            lines.level_db - place[lines.band] - of_root[lines.from_root], weights
        )
        off_db = over_db - place[lines.band] - of_root[lines.from_root]
        weights = np.minimum(1.0, FAR_OFF_DB / np.maximum(np.abs(off_db), 1e-9))
        mean_db, passes = _by_note(lines, over_db - of_root[lines.from_root], weights, n_bands)
        place = _without_trend(_smoothed(mean_db, passes, likeness), passes)
        of_root = _of_root(lines, over_db - place[lines.band], weights, n_bands)
    loudness = levels.power_db[active][lines.frame]
    loud = loudness >= np.median(levels.power_db[active])
    apart_db = over_db - place[lines.band] - of_root[lines.from_root]
    (loud_db, n_loud), (quiet_db, n_quiet) = (
        _by_note(lines, apart_db, weights * chosen, n_bands) for chosen in (loud, ~loud)
    )
    both = n_loud * n_quiet / np.maximum(n_loud + n_quiet, 1e-9)
    unknown = np.diag(likeness) - np.einsum("ij,ij->j", likeness, cho_solve(_factor(passes, likeness), likeness))
    sure = np.clip(1.0 - unknown / np.diag(likeness), 0.0, 1.0)
    return PlaceCurve(levels.hz, place, _smoothed(loud_db - quiet_db, both, likeness), sure, passes)


def _lines(x: Array, power_db: Array) -> _Lines | None:
    """Return what stands out of x (frames, bands) a little, or None where that is hardly anything."""
    if not len(x):
        return None
    standing = (x >= maximum_filter1d(x, 5, axis=1)) & (x - minimum_filter1d(x, LINE_BANDS, axis=1) > LINE_PROUD_DB)
    standing &= x > power_db[:, None] - LINE_REACH_DB
    frame, band = np.nonzero(standing)
    if len(band) < FEWEST_LINES:
        return None
    roots = _roots(np.where(standing, x - uniform_filter1d(x, BANDS_PER_OCTAVE + 1, axis=1), 0.0))
    level_db = x[frame, band] - power_db[frame]
    n_notes = HIGHEST_ROOT_BAND // NOTE_BANDS + 1
    passes, pass_of = np.unique(band * n_notes + roots[frame] // NOTE_BANDS, return_inverse=True)
    return _Lines(frame, band, level_db, band - roots[frame] + x.shape[1], pass_of, passes // n_notes)


def _roots(over_db: Array) -> np.ndarray:
    """Return the band (frames,) of the strongest overtone series of lines (frames, bands).

    Source: sub-harmonic summation, D. J. Hermes, JASA 83(1), 1988 (from memory)
    """
    lines = maximum_filter1d(np.clip(over_db, 0.0, 30.0).astype(np.float32), 3, axis=1)
    n_bands, salience = lines.shape[1], np.zeros_like(lines)
    for number in range(1, OVERTONES + 1):
        offset = round(BANDS_PER_OCTAVE * float(np.log2(number)))
        salience[:, : n_bands - offset] += np.float32(0.86 ** (number - 1)) * lines[:, offset:]
    return np.asarray(salience[:, :HIGHEST_ROOT_BAND].argmax(axis=1))


class _Outlines:
    """The plain outline of every frame: a few cosines, near to those of all frames together, by least squares."""

    def __init__(self, lines: _Lines, n_bands: int) -> None:
        self._shapes = _cosines(n_bands, OUTLINE_ORDER)[lines.band]
        self._products = (self._shapes[:, :, None] * self._shapes[:, None, :]).reshape(len(lines.band), -1)
        _, self._first, self._row = np.unique(lines.frame, return_index=True, return_inverse=True)
        self._prior = np.diag(LINE_SD_DB**2 / np.array(OUTLINE_SD_DB) ** 2)
        self._usual = np.zeros(OUTLINE_ORDER)

    def under(self, level_db: Array, weights: Array) -> Array:
        """Return (lines,) the outline of its frame at each line."""
        left = level_db - self._shapes @ self._usual
        squares = np.add.reduceat(self._products * weights[:, None], self._first).reshape(-1, *self._prior.shape)
        sums = np.add.reduceat(self._shapes * (weights * left)[:, None], self._first)
        own = np.linalg.solve(squares + self._prior, sums[..., None])[..., 0]
        outlines = self._usual + own
        self._usual = outlines.mean(axis=0)
        return np.asarray(np.einsum("ij,ij->i", self._shapes, outlines[self._row]))


def _cosines(n_bands: int, order: int) -> Array:
    return np.asarray(np.cos(np.pi * np.outer((np.arange(n_bands) + 0.5) / n_bands, np.arange(order))))


def _by_note(lines: _Lines, level_db: Array, weights: Array, n_bands: int) -> tuple[Array, Array]:
    """Return the mean level (bands,) of what passes each place and by how many notes, each of which counts once."""
    weight = np.bincount(lines.pass_of, weights, len(lines.pass_band))
    mean_db = np.bincount(lines.pass_of, weights * level_db, len(lines.pass_band)) / np.maximum(weight, 1e-9)
    counts = weight / (weight + WHOLE_PASS_FRAMES)
    passes = np.bincount(lines.pass_band, counts, n_bands)
    return np.asarray(np.bincount(lines.pass_band, counts * mean_db, n_bands) / np.maximum(passes, 1e-9)), np.asarray(
        passes
    )


def _likeness(n_bands: int) -> Array:
    """Return (bands, bands) how alike places are, in dB²."""
    apart = np.subtract.outer(np.arange(n_bands), np.arange(n_bands))
    wide = WIDE_SD_DB**2 * np.exp(-0.5 * (apart / WIDE_BANDS) ** 2)
    return np.asarray(wide + FINE_SD_DB**2 * np.exp(-0.5 * (apart / FINE_BANDS) ** 2))


def _smoothed(mean_db: Array, passes: Array, likeness: Array) -> Array:
    """Return the most likely curve (bands,) behind what was seen; towards 0 where little was."""
    return np.asarray(likeness @ cho_solve(_factor(passes, likeness), mean_db))


def _factor(passes: Array, likeness: Array) -> tuple[Array, bool]:
    """Return what is solved with: how alike places are, and how far chance alone moves what few notes say of each."""
    noise = np.diag(NOTE_SD_DB**2 / np.maximum(passes, 1e-3))
    return cho_factor(likeness + noise, lower=True, overwrite_a=True, check_finite=False)  # type: ignore[no-any-return]


def _without_trend(place: Array, passes: Array) -> Array:
    """Return a curve without its widest bends, which humps bend little: what lies far off counts less."""
    shapes = _cosines(len(place), OUTLINE_ORDER)
    seen = np.minimum(passes + 1e-3, 50.0)
    weights = seen
    for _ in range(4):
        root = np.sqrt(weights)
        bends, *_ = np.linalg.lstsq(shapes * root[:, None], place * root, rcond=None)
        over_db = place - shapes @ bends
        weights = seen * np.minimum(1.0, 2.0 / np.maximum(np.abs(over_db), 1e-9))
    return np.asarray(over_db)


def _of_root(lines: _Lines, level_db: Array, weights: Array, n_bands: int) -> Array:
    """Return what each distance from the root gives, (2·bands,), towards 0 where few lines have it."""
    near = np.array([1.0, 2.0, 1.0])
    total = np.convolve(np.bincount(lines.from_root, weights * level_db, 2 * n_bands), near, "same")
    count = np.convolve(np.bincount(lines.from_root, weights, 2 * n_bands), near, "same")
    few = 0.4 * (lines.frame.max() + 1.0) + 20.0
    return np.asarray(total / (count + few))
