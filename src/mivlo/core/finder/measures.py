"""What is measured of one suspect: its ring time, its times, and whether it follows the notes."""

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import maximum_filter1d, minimum_filter1d, percentile_filter

from mivlo.core import kernels
from mivlo.core.engine.source import Source
from mivlo.core.finder.level_map import BANDS_PER_OCTAVE, LevelMap
from mivlo.core.processors.timed import Spans
from mivlo.core.units import Array, Floats

__all__ = [
    "Notes",
    "cliff_hz",
    "follows_notes",
    "lowest_note_hz",
    "proud_of",
    "refined_hz",
    "ring_time_s",
    "runs",
    "stretches",
    "track_notes",
]

REACH, GAP = 30, 6
LONGEST_GAP_S, SHORTEST_S = 0.35, 0.05
MOST_STRETCHES = 60
DECAYS_FROM_DB, DECAYS_TO_DB, FEWEST_DECAYS = 3.0, 18.0, 3
FINEST_STEP_S = 0.0025
WINDOW_STEPS = 48  # of a decay's window: fewer, and what lies a multiple of the steps away is heard as if it were here
RING_SECONDS = 40.0  # of the loudest part are looked at
OVERTONES = 8
CLEAR_ROOT, FEWEST_NOTES, OFF_CENTS = 0.45, 3, 45.0
ONE_NOTE = 0.6  # of all lines: where one note explains less, others sound with it, which may own the line
# A sound that was cut off, by a codec or a lower rate, falls from a plateau by so much within a few bands, and
# nothing follows.
CLIFF_DB, PLATEAU_BANDS, FALL_BANDS, CLIFF_FROM_HZ = 25.0, BANDS_PER_OCTAVE // 6, 3, 2_000.0
LOW_PERCENTILE, FEWEST_CLEAR = 3.0, 20  # of the roots of frames with clear notes


def cliff_hz(levels: LevelMap, active: np.ndarray) -> float:
    """Return where a sound ends as if cut off; infinity where it fades out or goes on to the top.

    Raises
    ------
    Nothing. Source: ours
    """
    mean = levels.levels_db[active].mean(axis=0)
    # The plateau below each band, and the highest of all that lies beyond the fall above it.
    plateau = np.roll(percentile_filter(mean, 25.0, size=PLATEAU_BANDS, mode="nearest"), PLATEAU_BANDS // 2)
    beyond = np.maximum.accumulate(mean[::-1])[::-1][FALL_BANDS:]
    fall_db = plateau[: len(beyond)] - beyond
    fall_db[levels.hz[: len(beyond)] < CLIFF_FROM_HZ] = 0.0
    return float(levels.hz[fall_db.argmax()]) if fall_db.max() > CLIFF_DB else float(np.inf)


def proud_of(levels: LevelMap, band: int) -> Array:
    """Return (frames,) by how much the highest of a band and its neighbours stands over the near outline."""
    x = levels.levels_db
    low, high = max(band - REACH, 0), min(band + REACH + 1, x.shape[1])
    ring = np.concatenate([x[:, low : max(band - GAP, low)], x[:, band + GAP + 1 : high]], axis=1)
    return np.asarray(x[:, max(band - 1, 0) : band + 2].max(axis=1) - ring.mean(axis=1))


def refined_hz(hz: Floats, curve: Floats, band: int) -> float:
    """Return the frequency of a curve's maximum beside a band, between the bands (a parabola through three)."""
    band = int(np.clip(band, 1, len(curve) - 2))
    a, b, c = (float(v) for v in curve[band - 1 : band + 2])
    bend = a - 2.0 * b + c
    offset = float(np.clip(0.5 * (a - c) / bend, -0.5, 0.5)) if bend < 0.0 else 0.0
    return float(hz[band] * 2.0 ** (offset / BANDS_PER_OCTAVE))


def stretches(present: np.ndarray, levels: LevelMap) -> tuple[tuple[float, float], ...]:
    """Return the times (start_s, end_s) where (frames,) is true, short gaps closed; the longest where there are
    many."""
    found: list[tuple[float, float]] = []
    for a, b in runs(present, levels):
        if found and a - found[-1][1] <= LONGEST_GAP_S:
            found[-1] = (found[-1][0], b)
        else:
            found.append((a, b))
    times = [(max(a, 0.0), b) for a, b in found if b - a >= SHORTEST_S]
    return tuple(sorted(sorted(times, key=lambda t: t[0] - t[1])[:MOST_STRETCHES]))


def runs(present: np.ndarray, levels: LevelMap) -> Spans:
    """Return the times (start_s, end_s) where (frames,) is true, as they are."""
    edges = np.flatnonzero(np.diff(np.concatenate([[0], present.astype(np.int8), [0]])))
    half = levels.hop_s / 2.0
    return tuple(
        (float(levels.times_s[a] - half), float(levels.times_s[b - 1] + half))
        for a, b in zip(edges[::2], edges[1::2], strict=True)
    )


def ring_time_s(source: Source, hz: float, q: float, *, start: int, end: int, sample_rate_hz: float) -> float | None:
    """Return the T60 of what falls at a frequency, or None where too few decays are long enough.

    The slowest third of the decays tells: a mode that rings is as slow each time that it is left alone.

    Raises
    ------
    Nothing.

    Source: envelope of the band (heterodyne and Hann low-pass), each decay by least squares from 3 to 18 dB below its
    top, as T20 of ISO 3382-1 with a shorter range
    """
    longest = round(RING_SECONDS * sample_rate_hz)
    x = source.read(start, min(end - start, longest)).mean(axis=0)
    width = float(np.clip(3.0 * hz / q, 12.0, 400.0))  # wider than the mode: the filter must not ring longer
    step = max(1, round(2.0 * sample_rate_hz / width / WINDOW_STEPS), round(FINEST_STEP_S * sample_rate_hz))
    n = len(x) // step
    if n < 4 * WINDOW_STEPS:
        return None
    w = -2j * np.pi * hz / sample_rate_hz
    # Turned down to 0 Hz within each step, then step by step: the same as turning every sample.
    coarse = (x[: n * step].reshape(n, step) @ np.exp(w * np.arange(step))) * np.exp(w * step * np.arange(n)) / step
    size = max(3, round(2.0 * sample_rate_hz / width / step))
    level = 20.0 * np.log10(np.abs(np.convolve(coarse, np.hanning(size + 2)[1:-1], "same")) / (size / 2.0) + 1e-7)
    slopes = _decay_slopes(level, step / sample_rate_hz, float(level.max()))
    if len(slopes) < FEWEST_DECAYS:
        return None
    slowest = np.sort(slopes)[: max(len(slopes) // 3, FEWEST_DECAYS)]
    return float(60.0 / np.median(slowest))


def _decay_slopes(level: Array, step_s: float, top: float) -> list[float]:
    """Return the slopes in dB a second, all above 0, of the decays in a level."""
    slopes: list[float] = []
    tops = np.flatnonzero((level >= maximum_filter1d(level, 5)) & (level > top - 40.0))
    for peak, end in kernels.decays.lowest_after(level, tops, 2.0):
        if level[peak] - level[end] < DECAYS_TO_DB:
            continue
        fall = level[peak : end + 1]
        part = np.flatnonzero((fall <= level[peak] - DECAYS_FROM_DB) & (fall >= level[peak] - DECAYS_TO_DB))
        if len(part) >= 4:
            slope = -np.polyfit(part * step_s, fall[part], 1)[0]
            if slope > 0.0:
                slopes.append(float(slope))
    return slopes


@dataclass(frozen=True, slots=True)
class Notes:
    """What is played, as far as one can tell: (frames,) root bands, and the share of all lines that each explains."""

    roots: np.ndarray
    explained: np.ndarray

    @property
    def clear(self) -> np.ndarray:
        """Tell of each frame whether one note explains most of its lines."""
        return np.asarray(self.explained > CLEAR_ROOT)


def track_notes(levels: LevelMap, active: np.ndarray, *, reach_db: float = 50.0) -> Notes:
    """Return the strongest overtone series of every active frame, and how much of what is there it explains.

    Source: sub-harmonic summation, D. J. Hermes, JASA 83(1), 1988 (from memory)
    """
    x = levels.levels_db[active]
    lines = (x >= maximum_filter1d(x, 5, axis=1)) & (x - minimum_filter1d(x, 17, axis=1) > 6.0)
    height = np.where(lines, np.clip(x - x.max(axis=1, keepdims=True) + reach_db, 0.0, reach_db), 0.0).astype(
        np.float32
    )
    spread = maximum_filter1d(height, 3, axis=1)
    salience = np.zeros_like(spread)
    for h in range(1, OVERTONES + 1):
        offset = round(BANDS_PER_OCTAVE * float(np.log2(h)))
        salience[:, : spread.shape[1] - offset] += np.float32(0.86 ** (h - 1)) * spread[:, offset:]
    roots = np.argmax(salience, axis=1)
    covered = np.zeros(len(x))
    rows = np.arange(len(x))
    for h in range(1, 13):
        at = roots + round(BANDS_PER_OCTAVE * float(np.log2(h)))
        covered += np.where(at < x.shape[1], spread[rows, np.minimum(at, x.shape[1] - 1)], 0.0)
    return Notes(roots, covered / np.maximum(height.sum(axis=1), 1e-6))


def lowest_note_hz(levels: LevelMap, notes: Notes) -> float | None:
    """Return about the lowest note played; None where notes are seldom clear. Source: as `track_notes`."""
    roots = notes.roots[notes.clear]
    return float(levels.hz[int(np.percentile(roots, LOW_PERCENTILE))]) if len(roots) >= FEWEST_CLEAR else None


def follows_notes(levels: LevelMap, active: np.ndarray, notes: Notes, band: int, proud: Array) -> bool | None:
    """Tell whether what stands at a band belongs to the notes played; None where that cannot be told.

    Unknown where the notes are not clear (chords, noise) or never moved (definitions).
    """
    heard = (proud[active] > 4.0) & (notes.explained > ONE_NOTE)
    roots = notes.roots[heard]
    if len(roots) < 10 or len(np.unique(np.round(roots / 5.0))) < FEWEST_NOTES:
        return None
    ratio = 2.0 ** ((band - roots) / BANDS_PER_OCTAVE)
    nearest = np.maximum(np.round(ratio), 1.0)
    off = np.abs(1200.0 * np.log2(np.maximum(ratio, 1e-3) / nearest)) > OFF_CENTS
    share = float(np.mean(off | (nearest > 24.0)))
    return False if share > 0.5 else True if share < 0.15 else None
