"""The average spectrum on the bench's frequency axis, and by how much each place stands out of its surroundings."""

from collections.abc import Iterable

import numpy as np
from scipy.ndimage import maximum_filter1d

from mivlo.core.engine.source import Source
from mivlo.core.finder.level_map import level_map
from mivlo.core.units import Array, power_to_db

__all__ = [
    "AXIS_HZ",
    "BANDS_PER_OCTAVE",
    "band_levels",
    "band_levels_of",
    "far_outline",
    "highest_near",
    "level_percentiles",
    "near_outline",
    "stand_out",
]

LOWEST_HZ, HIGHEST_HZ = 20.0, 20_000.0
BANDS_PER_OCTAVE = 48
N_BANDS = int(np.floor(np.log2(HIGHEST_HZ / LOWEST_HZ) * BANDS_PER_OCTAVE)) + 1
AXIS_HZ = LOWEST_HZ * 2.0 ** (np.arange(N_BANDS) / BANDS_PER_OCTAVE)
# Window lengths in seconds and the frequency below which each serves: long where a tenth of an octave is few Hz.
RESOLUTIONS = ((0.68, 300.0), (0.34, 1_200.0), (0.085, np.inf))
OUTLINE_OCTAVES = 1.0  # the near outline spans half an octave to one
OUTLINE_GAP_OCTAVES = 0.3  # around the candidate, left out of its own outline
FAR_END_OCTAVES = 1.0 / 3.0
FAR_OCTAVES, FAR_GAP_OCTAVES = 2.5, 1.0  # either side: a hump of Q 0.9 is about one and a half octaves wide
OUTLINE_PERCENTILE = 40.0  # what stands out itself (the skirts of the candidate, overtones) lies above


class BandMeter:
    """Measures the average level at AXIS_HZ of a stretch that comes in blocks; of the sound itself, one window is kept.

    Source: Welch's averaged periodogram (Hann, half overlap) at three window lengths, the highest bin of each band
    """

    def __init__(self, n_frames: int, *, sample_rate_hz: float) -> None:
        self._rate = sample_rate_hz
        self._averages = [
            _Periodogram(1 << int(np.ceil(np.log2(seconds * sample_rate_hz))), n_frames) for seconds, _ in RESOLUTIONS
        ]

    def push(self, block: Array) -> None:
        """Take the next (channels, n) float64 in; raises nothing."""
        for average in self._averages:
            average.push(block)

    def levels(self) -> Array:
        """Return (bands,) float64, dBFS, floored at -140; -140 above half the rate."""
        power = np.full(N_BANDS, 1e-14)
        low_hz = 0.0
        for average, (_, high_hz) in zip(self._averages, RESOLUTIONS, strict=True):
            chosen = (low_hz <= AXIS_HZ) & (min(high_hz, 0.5 * self._rate) > AXIS_HZ)
            power[chosen] = _highest_between(average.power(), AXIS_HZ[chosen] * average.size / self._rate)
            low_hz = high_hz
        return np.maximum(power_to_db(power), -140.0)


class _Periodogram:
    """The mean power of Hann windows of a size, scaled so that a full-scale sine reads 1."""

    def __init__(self, size: int, n_frames: int) -> None:
        self.size = size
        self._long = max(min(size, n_frames), 1)  # a shorter stretch is one window, interpolated by zeros behind it
        self._window = np.hanning(self._long + 1)[: self._long]
        self._total, self._count = np.zeros(size // 2 + 1), 0
        self._waiting = np.zeros((0, 0))

    def push(self, block: Array) -> None:
        waiting = block if not self._waiting.size else np.concatenate([self._waiting, block], axis=1)
        step, start = max(self._long // 2, 1), 0
        while start + self._long <= waiting.shape[1]:
            windowed = waiting[:, start : start + self._long] * self._window
            self._total += np.mean(np.abs(np.fft.rfft(windowed, self.size, axis=1)) ** 2, axis=0)
            self._count += 1
            start += step
        self._waiting = waiting[:, start:].copy()

    def power(self) -> Array:
        return np.asarray(self._total / max(self._count, 1) * (2.0 / np.sum(self._window)) ** 2)


def band_levels(samples: Array, *, sample_rate_hz: float) -> Array:
    """Return the average level of a stretch at AXIS_HZ.

    Parameters
    ----------
    samples : (channels, frames) float64; the powers of the channels are averaged

    Returns
    -------
    (bands,) float64, dBFS (a full-scale sine reads 0 at its frequency), floored at -140; -140 above half the rate

    Raises
    ------
    Nothing.

    Source: as `BandMeter`
    """
    return band_levels_of([samples], samples.shape[1], sample_rate_hz=sample_rate_hz)


def band_levels_of(blocks: Iterable[Array], n_frames: int, *, sample_rate_hz: float) -> Array:
    """Return the same of (channels, n) blocks that follow one another, n_frames altogether; raises nothing.

    Source: as `BandMeter`
    """
    meter = BandMeter(n_frames, sample_rate_hz=sample_rate_hz)
    for block in blocks:
        meter.push(block)
    return meter.levels()


def level_percentiles(
    source: Source, percentiles: tuple[float, ...], *, start: int, end: int, sample_rate_hz: float
) -> Array:
    """Return (percentiles, bands): the levels at AXIS_HZ that a stretch stays under for those parts of the time.

    Raises
    ------
    Nothing.

    Source: percentiles over the frames of `level_map`, interpolated along the axis
    """
    levels = level_map(source, start=start, end=end, sample_rate_hz=sample_rate_hz)
    rows = np.percentile(levels.levels_db, percentiles, axis=0)
    return np.stack([np.interp(np.log2(AXIS_HZ), np.log2(levels.hz), row) for row in rows])


def _highest_between(bins: Array, centres: Array) -> Array:
    """Return the highest bin within half a band of each centre, interpolated where a band is narrower than a bin."""
    half = 2.0 ** (0.5 / BANDS_PER_OCTAVE)
    low, high = np.ceil(centres / half).astype(int), np.floor(centres * half).astype(int)
    between = np.interp(centres, np.arange(bins.size), bins)
    return np.array(
        [max(bins[a : b + 1].max(), m) if b >= a else m for a, b, m in zip(low, high, between, strict=True)]
    )


def near_outline(level_db: Array) -> Array:
    """Return the near outline of (bands,) levels: what is usual around each place, the place itself left out.

    Source: ours; tests/core/test_levels.py shows that a planted bell reads its gain within 1.5 dB
    """
    reach = round(OUTLINE_OCTAVES / 2.0 * BANDS_PER_OCTAVE)
    gap = round(OUTLINE_GAP_OCTAVES / 2.0 * BANDS_PER_OCTAVE)
    padded = np.pad(level_db, reach, constant_values=np.nan)
    around = np.lib.stride_tricks.sliding_window_view(padded, 2 * reach + 1)
    around = np.concatenate([around[:, : reach - gap], around[:, reach + gap + 1 :]], axis=1)
    return np.asarray(np.nanpercentile(around, OUTLINE_PERCENTILE, axis=1))


def far_outline(level_db: Array) -> Array:
    """Return the far outline of (bands,) levels: the trend over octaves, against which wide humps stand out.

    Source: the line of least squares through what lies FAR_GAP_OCTAVES to FAR_OCTAVES away on either side, at every
    place; tests/core/test_levels.py holds it against a planted hump
    """
    reach, gap = round(FAR_OCTAVES * BANDS_PER_OCTAVE), round(FAR_GAP_OCTAVES * BANDS_PER_OCTAVE)
    # Beyond the ends of the axis the levels are taken to go on as they end: a line drawn out of one side alone strays
    # far.
    ends = round(FAR_END_OCTAVES * BANDS_PER_OCTAVE)
    low, high = float(np.mean(level_db[:ends])), float(np.mean(level_db[-ends:]))
    padded = np.pad(level_db, reach, constant_values=(low, high))
    ring = (np.abs(np.arange(-reach, reach + 1)) >= gap).astype(np.float64)
    # Both sides weigh the same, so the line at its middle is their mean.
    return np.convolve(padded, ring / ring.sum(), "valid")


def stand_out(level_db: Array) -> Array:
    """Return by how many dB each of (bands,) levels stands above its near outline (below: negative)."""
    return np.asarray(level_db - near_outline(level_db))


def highest_near(standing_db: Array) -> Array:
    """Return the highest of (bands,) stand-outs within a twelfth of an octave: a pointer need not hit a peak
    exactly."""
    return np.asarray(maximum_filter1d(standing_db, 2 * round(BANDS_PER_OCTAVE / 24.0) + 1))
