"""The bell that stands out of a curve of levels: gain and Q of a suspect, and what of it was taken away."""

from dataclasses import dataclass

import numpy as np

from mivlo.core.finder.level_map import BANDS_PER_OCTAVE, LOWEST_HZ, LevelMap, loud_frames, quiet_frames, window_s
from mivlo.core.units import Array, Floats

__all__ = [
    "LINE",
    "WIDE",
    "BellFit",
    "Expected",
    "bell_curve",
    "bell_fit",
    "bell_gain_db",
    "bell_of",
    "likely_bell",
    "ring_q",
]

NARROW_QS, NARROW_REACH = np.geomspace(4.0, 60.0, 24), 40  # bands: two thirds of an octave either side
WIDEST_RING_Q = 8.0
LEAST_MISFIT_DB = 0.01
# A bell's shape in dB depends a little on its gain: it is fitted once with this one, and again with what was found.
NOMINAL_DB, LEAST_NOMINAL_DB, MOST_NOMINAL_DB = 9.0, 3.0, 24.0
# The main lobe of a Hann window, in parts of one over its length, and its power there (at one, the limit).
LOBE = np.arange(-1.75, 1.76, 0.25)
LOBE_POWER = np.array([0.5 if abs(at) == 1.0 else np.sinc(at) / (1.0 - at**2) for at in LOBE]) ** 2
LOBE_POWER /= LOBE_POWER.sum()


@dataclass(frozen=True, slots=True)
class BellFit:
    """A bell on a straight line."""

    gain_db: float
    q: float


@dataclass(frozen=True, slots=True)
class Expected:
    """What a fault is expected to be before it is measured, and how many levels an octave of a curve really holds."""

    gain_db: float
    gain_spread_db: float
    q: float
    q_spread: float  # of its logarithm
    qs: Array
    reach: int  # bands either side that are fitted
    levels_per_octave: float


# Common practice, no source (cuts of 3 to 8 dB, a plain ring deeper); how far neighbouring levels go together, and that
# these spreads halve the errors, was seen on phrases that nothing is tested on (docs/method.md).
LINE = Expected(9.0, 6.0, 17.0, 0.8, NARROW_QS, NARROW_REACH, 12.0)
WIDE = Expected(6.0, 3.0, 1.5, 0.5, np.geomspace(0.5, 4.0, 16), 110, 3.0)


def bell_fit(curve: Floats, band: int) -> BellFit:
    """Return the narrow bell at a band that fits best into a (bands,) curve of levels in dB.

    Raises
    ------
    Nothing.

    Source: least squares of a line and an analogue bell in dB, over a grid of Q
    """
    fits = []
    for q in NARROW_QS:
        design, part = _designed(curve, band, BellFit(NOMINAL_DB, float(q)), NARROW_REACH, 0.0)
        solution, *_ = np.linalg.lstsq(design, part, rcond=None)
        fits.append((float(np.mean((part - design @ solution) ** 2)), BellFit(float(solution[2]), float(q))))
    return min(fits, key=lambda fit: fit[0])[1]


def ring_q(curve: Floats, band: int) -> float:
    """Return the Q of the band in which a ring is listened for: as wide as what stands there in a curve, whatever it
    is."""
    return max(bell_fit(curve, band).q, WIDEST_RING_Q)


def bell_of(levels: LevelMap, active: np.ndarray, hz: float, *, wide: bool, when_loud: bool) -> BellFit:
    """Return the likely bell of a fault, over the frames in which something sounds, or in which it is loud.

    A wide one that is loud-only is what the loud moments have over the quiet ones: those show the track as it is.

    Raises
    ------
    Nothing.
    """
    chosen = loud_frames(levels, active) if when_loud else active
    curve = levels.levels_db[chosen].mean(axis=0)
    if wide and when_loud:
        curve = curve - levels.levels_db[quiet_frames(levels, active)].mean(axis=0)
    return likely_bell(curve, hz, WIDE if wide else LINE)


def likely_bell(curve: Floats, hz: float, expected: Expected) -> BellFit:
    """Return the bell at a frequency that is likely in a curve on the bands of a level map, for what is expected of a
    fault.

    In a smooth curve that is the bell which fits best; where an instrument's own peaks are as high, what is expected
    counts.

    Raises
    ------
    Nothing.

    Source: Bayesian linear regression (C. Bishop, Pattern Recognition and Machine Learning, 2006, section 3.3),
    averaged over a grid of Q by how likely each is
    """
    first = _averaged(curve, hz, expected, NOMINAL_DB)
    return _averaged(curve, hz, expected, first.gain_db)


def _averaged(curve: Floats, hz: float, expected: Expected, nominal_db: float) -> BellFit:
    certainty = np.diag([0.0, 0.0, expected.gain_spread_db**-2.0])
    logs, gains = [], []
    for q in expected.qs:
        design, part = _designed(curve, _band_of(hz), BellFit(nominal_db, float(q)), expected.reach, _blur_at(hz))
        count = len(part) / BANDS_PER_OCTAVE * expected.levels_per_octave
        solution, *_ = np.linalg.lstsq(design, part, rcond=None)
        per_level = count / len(part) / max(float(np.mean((part - design @ solution) ** 2)), LEAST_MISFIT_DB**2)
        toward = per_level * design.T @ part + certainty @ np.array([0.0, 0.0, expected.gain_db])
        solution = np.linalg.solve(per_level * design.T @ design + certainty, toward)
        misfit = float(np.mean((part - design @ solution) ** 2)) + LEAST_MISFIT_DB**2
        gain_off, q_off = (
            (solution[2] - expected.gain_db) / expected.gain_spread_db,
            np.log(q / expected.q) / expected.q_spread,
        )
        logs.append(-0.5 * (count * np.log(misfit) + gain_off**2 + q_off**2))
        gains.append(float(solution[2]))
    weights = np.exp(np.array(logs) - max(logs))
    weights /= weights.sum()
    return BellFit(float(weights @ gains), float(np.exp(weights @ np.log(expected.qs))))


def bell_gain_db(curve: Floats, hz: float, bell: BellFit, expected: Expected) -> float:
    """Return how much of a bell there is in a curve on the bands of a level map, in dB, by least squares."""
    design, part = _designed(curve, _band_of(hz), bell, expected.reach, _blur_at(hz))
    solution, *_ = np.linalg.lstsq(design, part, rcond=None)
    return float(solution[2])


def bell_curve(bell: BellFit, hz: float, n_bands: int) -> Floats:
    """Return (n_bands,) a bell in dB on the bands of a level map, as it is seen there."""
    octaves = (np.arange(n_bands) - _band_of(hz)) / BANDS_PER_OCTAVE
    return np.asarray(bell.gain_db * _bell_shape(octaves, bell, _blur_at(hz)), dtype=np.float32)


def _band_of(hz: float) -> float:
    """Return where a frequency lies among the bands of a level map."""
    return float(np.log2(hz / LOWEST_HZ) * BANDS_PER_OCTAVE)


def _blur_at(hz: float) -> float:
    """Return one over the periods of a frequency that its window holds."""
    return 1.0 / (hz * window_s(hz))


def _designed(curve: Floats, at: float, bell: BellFit, reach: int, blur: float) -> tuple[Array, Array]:
    """Return (bands, 3) a level, a slope and a bell at a place among the bands, and (bands,) that part of a curve."""
    first, last = max(round(at) - reach, 0), min(round(at) + reach + 1, len(curve))
    octaves = (np.arange(first, last) - at) / BANDS_PER_OCTAVE
    part = np.asarray(curve[first:last], dtype=np.float64)
    return np.stack([np.ones_like(octaves), octaves, _bell_shape(octaves, bell, blur)], axis=1), part


def _bell_shape(octaves: Array, bell: BellFit, blur: float) -> Array:
    """Return a bell as a share of its gain in dB; through a window of few periods a narrow bell is wider, and lower."""
    nominal_db = min(max(bell.gain_db, LEAST_NOMINAL_DB), MOST_NOMINAL_DB)
    a = 10.0 ** (nominal_db / 40.0)
    ratio = np.maximum(2.0 ** octaves[:, None] + blur * LOBE[None], 0.05)
    x = ratio - 1.0 / ratio
    power = (x**2 + (a / bell.q) ** 2) / (x**2 + 1.0 / (a * bell.q) ** 2)
    return np.asarray(10.0 * np.log10(power @ LOBE_POWER) / nominal_db)
