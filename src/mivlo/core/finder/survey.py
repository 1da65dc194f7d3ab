"""Survey: listens to a stretch and drafts many shallow cuts at what belongs to no note played."""

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import maximum_filter1d, median_filter, minimum_filter1d

from mivlo.core.engine.source import Source
from mivlo.core.errors import ParameterError
from mivlo.core.finder.bells import bell_fit
from mivlo.core.finder.level_map import BANDS_PER_OCTAVE, LevelMap, level_map
from mivlo.core.finder.measures import refined_hz
from mivlo.core.moves.base import Keepers
from mivlo.core.moves.bell import Bell
from mivlo.core.units import Array, Floats, hz_to_note

__all__ = ["DEFAULT_AMOUNT", "DraftedCut", "survey"]

DEFAULT_AMOUNT = 60.0  # per cent
MOST_NOTES = 6  # sounding at once
WEAKEST_NOTE = 0.3  # of the strongest one's salience
MOST_OVERTONES = 28
NEEDED_FELLOWS = 3  # of a root's first six overtones: fewer are no note
TOLERANCE_CENTS, STIFFNESS_CENTS = 14.0, 0.45  # the second times the overtone's number squared: strings are stiff
PROUD_OF_FELLOWS_DB = 14.0  # over the overtones beside it: such a line is more than the note's own
LINE_OVER_SIDES_DB, LINE_BELOW_TOP_DB = 6.0, 55.0
IN_TUNE_CENTS = 14.0  # of equal temperament: a line alone there may be a flute's
ALWAYS = 0.7  # of the time: what never moves is no melody, in tune or not
LEAST_SHARE, LEAST_PROUD_DB = 0.3, 4.5
NOTE_SHARE, NOTE_SHARE_OF_LASTING = 0.15, 0.4  # of a place's power that may belong to notes; of what is there for long
LASTING = 0.45  # of the time
DEEPEST_DB, NARROWEST_Q, WIDEST_Q = 8.0, 40.0, 10.0
MOST_CUTS, CUTS_APART = 16, 4
ACTIVE_DB = 50.0


@dataclass(frozen=True, slots=True)
class DraftedCut:
    """One shallow cut, and what was heard there: how far it stands out, how much of the time, and the note nearest."""

    move: Bell
    excess_db: float
    share_of_time: float
    nearest_note: str


def survey(
    source: Source, *, start: int, end: int, sample_rate_hz: float, low_hz: float = 150.0, high_hz: float = 10_000.0,
    amount: float = DEFAULT_AMOUNT, keepers: Keepers = (),
) -> list[DraftedCut]:  # fmt: skip
    """Return cuts, lowest first, at lines of a stretch that are no overtone of any note that sounds with them.

    Parameters
    ----------
    amount : per cent of what a line stands out by, for all cuts alike
    low_hz, high_hz : limits between which is cut

    Raises
    ------
    ParameterError: an empty stretch or limits, or an amount outside 0 to 100

    Source: iterated sub-harmonic summation, after D. J. Hermes, JASA 83(1), 1988, and A. Klapuri, "Multiple fundamental
    frequency estimation by summing harmonic amplitudes", ISMIR 2006 (both from memory)
    """
    if not 0.0 <= amount <= 100.0:
        raise ParameterError(f"amount={amount:g} must be from 0 to 100 %")
    if not 0.0 < low_hz < high_hz:
        raise ParameterError(f"low_hz={low_hz:g} must be above 0 and below high_hz={high_hz:g}")
    if end <= start:
        raise ParameterError(f"a stretch from frame {start} to {end} is empty: it must end after it starts")
    levels = level_map(source, start=start, end=end, sample_rate_hz=sample_rate_hz)
    active = levels.power_db > max(float(levels.power_db.max()) - ACTIVE_DB, -95.0)
    if active.sum() < 8:
        return []
    x = levels.levels_db[active]
    lines = _lines(x)
    stray = lines & ~_belongs_to_notes(lines, x)
    return _drafted(levels, x, lines, stray, low_hz, min(high_hz, 0.45 * sample_rate_hz), amount, keepers)


def _lines(x: Floats) -> np.ndarray:
    """Return where (frames, bands) a line stands: a peak over its sides that is not far below the loudest."""
    peak = (x >= maximum_filter1d(x, 5, axis=1)) & (x - minimum_filter1d(x, 21, axis=1) > LINE_OVER_SIDES_DB)
    return np.asarray(peak & (x > x.max(axis=1, keepdims=True) - LINE_BELOW_TOP_DB))


def _belongs_to_notes(lines: np.ndarray, x: Floats) -> np.ndarray:
    """Return where a line lies on the overtone series of a note that sounds in its frame, the strongest notes first."""
    n_frames, n_bands = lines.shape
    height = np.where(lines, np.clip(x - x.max() + 70.0, 0.0, 70.0), 0.0).astype(np.float32)
    place = _refined(x)
    left, owned = height.copy(), np.zeros(lines.shape, dtype=bool)
    offsets = BANDS_PER_OCTAVE * np.log2(np.arange(1, MOST_OVERTONES + 1))
    rows = np.arange(n_frames)
    first: Floats = np.zeros(n_frames)
    for number in range(MOST_NOTES):
        salience = _salience(left, offsets)
        roots = salience.argmax(axis=1)
        best = salience[rows, roots]
        first = best if number == 0 else first
        heard = best > WEAKEST_NOTE * first
        if not heard.any():
            break
        at_root = place[rows, _nearest_line(left, roots)]
        heights, bands = np.zeros((MOST_OVERTONES, n_frames)), np.zeros((MOST_OVERTONES, n_frames), dtype=int)
        for h, offset in enumerate(offsets, 1):
            bands[h - 1] = _nearest_line(height, np.minimum(np.round(at_root + offset).astype(int), n_bands - 1))
            off_cents = 20.0 * (place[rows, bands[h - 1]] - at_root - offset)
            fits = (off_cents > -TOLERANCE_CENTS) & (off_cents < TOLERANCE_CENTS + STIFFNESS_CENTS * h * h)
            heights[h - 1] = np.where(fits & heard, height[rows, bands[h - 1]], 0.0)
        usual = median_filter(heights, (5, 1), mode="nearest")
        series = (heights > 0.0) & (heights < np.maximum(usual, 1.0) + PROUD_OF_FELLOWS_DB)
        series[:3] = heights[:3] > 0.0  # the first overtones of a note differ as they like
        for bands_of_h, in_series in zip(bands, series, strict=True):
            owned[rows[in_series], bands_of_h[in_series]] = True
            left[rows[in_series], bands_of_h[in_series]] = 0.0
        left[rows, roots] = 0.0
    return owned


def _refined(x: Floats) -> Floats:
    """Return every band's place moved to the maximum of the parabola through it and its neighbours, by half a band at
    most."""
    bend = x[:, :-2] - 2.0 * x[:, 1:-1] + x[:, 2:]
    part = np.where(bend < -1e-6, 0.5 * (x[:, :-2] - x[:, 2:]) / np.minimum(bend, -1e-6), 0.0)
    place = np.tile(np.arange(x.shape[1], dtype=np.float64), (len(x), 1))
    place[:, 1:-1] += np.clip(part, -0.5, 0.5)
    return place


def _salience(left: Floats, offsets: Floats) -> Floats:
    """Return how much of a note with enough fellows stands on every band as its root."""
    n_bands = left.shape[1]
    near = maximum_filter1d(left, 3, axis=1)
    salience, fellows = np.zeros_like(left), np.zeros(left.shape, dtype=np.int8)
    for number, offset in enumerate(np.round(offsets[:12]).astype(int)):
        part = near[:, offset:]
        salience[:, : n_bands - offset] += np.float32(0.88**number) * part
        if number < 6:
            fellows[:, : n_bands - offset] += part > 0.0
    salience[(fellows < NEEDED_FELLOWS) | (near <= 0.0)] = 0.0
    return salience


def _nearest_line(height: Floats, bands: np.ndarray) -> np.ndarray:
    """Return, for each frame, the highest line within a band of a place."""
    rows = np.arange(len(bands))
    around = np.clip(bands[:, None] + np.array([0, -1, 1]), 0, height.shape[1] - 1)
    return np.asarray(around[rows, height[rows[:, None], around].argmax(axis=1)])


def _drafted(
    levels: LevelMap, x: Floats, lines: np.ndarray, stray: np.ndarray, low_hz: float, high_hz: float, amount: float,
    keepers: Keepers,
) -> list[DraftedCut]:  # fmt: skip
    hz = levels.hz
    power = 10.0 ** (x / 10.0)
    near = maximum_filter1d(stray, 3, axis=1)
    share = near.mean(axis=0)
    of_notes = (power * maximum_filter1d(lines & ~stray, 5, axis=1)).sum(axis=0)
    of_strays = (power * near).sum(axis=0)
    cents = 1_200.0 * np.log2(hz / 440.0)
    in_tune = np.abs((cents + 50.0) % 100.0 - 50.0) < IN_TUNE_CENTS
    allowed = (hz >= low_hz) & (hz <= high_hz) & (share >= LEAST_SHARE) & ((share >= ALWAYS) | ~in_tune)
    allowed &= of_notes < np.where(share >= LASTING, NOTE_SHARE_OF_LASTING, NOTE_SHARE) * (of_notes + of_strays)
    for low, high in keepers:
        allowed &= ~((hz >= low) & (hz <= high))
    weight = np.where(allowed, of_strays, 0.0)
    tops = np.flatnonzero((weight > 0.0) & (weight >= maximum_filter1d(weight, 2 * CUTS_APART + 1)))
    drafted: list[DraftedCut] = []
    for band in tops[np.argsort(-weight[tops])]:
        curve = _mean_where(x, near[:, band])
        fit = bell_fit(curve, int(band))
        if fit.gain_db < LEAST_PROUD_DB or len(drafted) == MOST_CUTS:
            continue
        depth = min(fit.gain_db * amount / 100.0, DEEPEST_DB)
        at = refined_hz(hz, curve, int(band))
        move = Bell(hz=round(at, 2), gain_db=-round(depth, 1), q=round(float(np.clip(fit.q, WIDEST_Q, NARROWEST_Q)), 1))
        note, off = hz_to_note(at)
        drafted.append(DraftedCut(move, fit.gain_db, float(share[band]), f"{note} {off:+.0f} ct"))
    return sorted(drafted, key=lambda cut: cut.move.hz)


def _mean_where(x: Floats, chosen: np.ndarray) -> Array:
    return np.asarray(x[chosen].mean(axis=0), dtype=np.float64)
