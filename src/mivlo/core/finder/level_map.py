"""Levels over time on a logarithmic frequency axis: what all searches of the finder look at."""

from dataclasses import dataclass

import numpy as np
from scipy.fft import rfft

from mivlo.core import kernels
from mivlo.core.engine.source import Source
from mivlo.core.spectra.windows import halvings_of, windows
from mivlo.core.units import Floats

__all__ = [
    "BANDS_PER_OCTAVE", "HOP_S", "LOUD_PERCENTILE", "LOWEST_HZ", "LevelMap", "active_frames", "level_map",
    "loud_frames", "quiet_frames", "window_s", "window_shares",
]  # fmt: skip

LOWEST_HZ, HIGHEST_HZ = 30.0, 16_000.0
BANDS_PER_OCTAVE = 60  # 20 cents: a third of a hit's tolerance
N_BANDS = int(np.log2(HIGHEST_HZ / LOWEST_HZ) * BANDS_PER_OCTAVE) + 1
# Halvings of the rate, window in frames at that rate, and the highest frequency each serves: 340 ms where a semitone
# is 10 Hz, 43 ms where it is 300.
RESOLUTIONS = ((4, 1024, 350.0), (4, 512, 1_200.0), (2, 1024, 4_800.0), (0, 2048, np.inf))
HOP_FRAMES = 1024  # at the working rate
HOP_S = HOP_FRAMES / 48_000.0  # about: the working rate is 32 to 64 kHz
MOST_FRAMES = 4_500  # of the map: longer stretches are looked at more sparsely, so that memory stays bounded
FLOOR_DB = -160.0
RANGE_DB = 100.0  # below the loudest band nothing is heard: what a track is told to be must not hang on its level
HIGHEST_OF_RATE = 0.48
ACTIVE_DB, SILENCE_DB = 55.0, -95.0  # below the loudest frames, and at all: what lies lower is a pause
LOUD_PERCENTILE, QUIET_PERCENTILE = 60.0, 50.0


@dataclass(frozen=True, slots=True)
class LevelMap:
    """`levels_db` (frames, bands) float32 at `hz` (bands,) and `times_s` (frames,), the middles of the windows."""

    hz: Floats
    times_s: Floats
    levels_db: Floats
    power_db: Floats  # (frames,) of all bands together

    @property
    def hop_s(self) -> float:
        """Return the time from one frame to the next."""
        return float(self.times_s[1] - self.times_s[0]) if len(self.times_s) > 1 else HOP_S


def window_s(hz: float) -> float:
    """Return the length of the window through which a frequency is seen."""
    halved, size, _ = next(one for one in RESOLUTIONS if hz < one[2])
    return size * 2.0**halved * HOP_S / HOP_FRAMES


def active_frames(levels: LevelMap) -> np.ndarray:
    """Return the numbers of the frames in which something sounds."""
    loudest = float(np.percentile(levels.power_db, 98.0))
    return np.flatnonzero(levels.power_db > max(loudest - ACTIVE_DB, SILENCE_DB))


def loud_frames(levels: LevelMap, active: np.ndarray) -> np.ndarray:
    """Return those of some frames that are the loudest two fifths of them."""
    loudness = levels.power_db[active]
    return np.asarray(active[loudness >= np.percentile(loudness, LOUD_PERCENTILE)])


def quiet_frames(levels: LevelMap, active: np.ndarray) -> np.ndarray:
    """Return those of some frames that are the quieter half of them."""
    loudness = levels.power_db[active]
    return np.asarray(active[loudness <= np.percentile(loudness, QUIET_PERCENTILE)])


def level_map(source: Source, *, start: int, end: int, sample_rate_hz: float) -> LevelMap:
    """Return the levels of a stretch, the powers of the channels averaged; beyond the source there is silence.

    A full-scale sine reads 0 dB in its band. Read in pieces: memory is bounded whatever the length.

    Raises
    ------
    Nothing.

    Source: short-time Fourier transform (Hann), one window length for each part of the axis, after halvings of the rate
    """
    halvings = halvings_of(sample_rate_hz)
    rate = sample_rate_hz / 2.0**halvings
    n = max((end - start) >> halvings, HOP_FRAMES)
    sparser = -(-n // (HOP_FRAMES * MOST_FRAMES))
    n_frames = n // (HOP_FRAMES * sparser) + 1
    hz = LOWEST_HZ * 2.0 ** (np.arange(N_BANDS) / BANDS_PER_OCTAVE)
    power = np.zeros((n_frames, N_BANDS), dtype=np.float32)
    done = 0
    for chunk in windows(
        source, start=start, end=end, halvings=halvings, hop=HOP_FRAMES * sparser, resolutions=RESOLUTIONS
    ):
        count = min(len(chunk[0][0]), n_frames - done)
        low_hz = 0.0
        for frames_by_channel, (halved, size, high_hz) in zip(chunk, RESOLUTIONS, strict=True):
            high_hz = min(high_hz, HIGHEST_OF_RATE * rate / 2.0**halved)  # the next takes over what this one cannot see
            chosen = np.flatnonzero((hz >= low_hz) & (hz < high_hz))
            low_hz = high_hz
            if len(chosen) and count > 0:
                scale = (2.0 / np.hanning(size + 1)[:size].sum()) ** 2 / len(frames_by_channel)
                for frames in frames_by_channel:
                    padded = size * 2 if halved else size
                    _add_bands(
                        power[done : done + count], frames[:count], chosen, hz, size, padded, rate / 2.0**halved, scale
                    )
        done += count
    floor = max(float(power.max()) * 10.0 ** (-RANGE_DB / 10.0), 10.0 ** (FLOOR_DB / 10.0))
    levels = 10.0 * np.log10(np.maximum(power, np.float32(floor)))
    hop_s = HOP_FRAMES * sparser / rate
    total = 10.0 * np.log10(np.maximum(power.sum(axis=1), 10.0 ** (FLOOR_DB / 10.0)))
    return LevelMap(hz, start / sample_rate_hz + np.arange(n_frames) * hop_s, levels, np.asarray(total))


def window_shares(hz: Floats, *, sample_rate_hz: float) -> Floats:
    """Return which part of what its window lets through each band at `hz` (bands,) spans, 1 at most.

    At the low end many bands share one window's width. Powers weighed by this add up over bands as they do in the
    sound.

    Raises
    ------
    Nothing.

    Source: equivalent noise bandwidth of the Hann window, 1.5 bins (F. J. Harris, Proc. IEEE 66(1), 1978, from memory)
    """
    rate = sample_rate_hz / 2.0 ** halvings_of(sample_rate_hz)
    lets_through = np.full(len(hz), np.inf)
    for halved, size, high_hz in reversed(RESOLUTIONS):
        lets_through[hz < high_hz] = 1.5 * rate / 2.0**halved / size
    width = hz * (2.0 ** (0.5 / BANDS_PER_OCTAVE) - 2.0 ** (-0.5 / BANDS_PER_OCTAVE))
    return np.asarray(np.minimum(width / lets_through, 1.0))


def _add_bands(
    power: Floats, frames: Floats, chosen: np.ndarray, hz: Floats, size: int, padded: int, rate: float, scale: float
) -> None:
    """Add the power in the chosen bands of (frames, size) windows to power (frames, bands), in pieces."""
    window = np.hanning(size + 1)[:size].astype(np.float32)
    position = hz[chosen] * padded / rate
    ratio = 2.0 ** (0.5 / BANDS_PER_OCTAVE)
    first, last = np.ceil(position / ratio).astype(int), np.floor(position * ratio).astype(int)
    # Below this place a band holds one bin or none, and is interpolated; above, the highest of its bins counts.
    crossing = len(chosen) - int(np.argmax((last < first + 1)[::-1])) if (last < first + 1).any() else 0
    narrow, wide = chosen[:crossing], chosen[crossing:]
    low = np.minimum(position[:crossing].astype(int), padded // 2 - 1)
    part = (position[:crossing] - low).astype(np.float32)
    edges = np.append(first[crossing:], last[-1] + 1)
    for at in range(0, len(frames), 512):
        spectrum = rfft(frames[at : at + 512] * window, padded, axis=1)
        out = power[at : at + 512]
        if len(narrow):
            # Between bins in dB, as a spectral peak is round there.
            shown = spectrum[:, : low[-1] + 2]
            levels = np.log((shown.real**2 + shown.imag**2) * np.float32(scale) + 1e-20)
            out[:, narrow] += np.exp((1 - part) * levels[:, low] + part * levels[:, low + 1])
        kernels.band_peaks.add_band_peaks(spectrum, np.float32(scale), edges, wide, out)
