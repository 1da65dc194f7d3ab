"""Levels over time on a logarithmic frequency axis: what all searches of the finder look at."""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from scipy.fft import rfft
from scipy.signal import firwin

from mivlo.core.engine.source import Source
from mivlo.core.kernels import halving
from mivlo.core.units import Floats

__all__ = ["BANDS_PER_OCTAVE", "HOP_S", "LOWEST_HZ", "LevelMap", "halved_rate", "level_map"]

LOWEST_HZ, HIGHEST_HZ = 30.0, 16_000.0
BANDS_PER_OCTAVE = 60  # 20 cents: a third of a hit's tolerance
N_BANDS = int(np.log2(HIGHEST_HZ / LOWEST_HZ) * BANDS_PER_OCTAVE) + 1
# Halvings of the rate, window in frames at that rate, and the highest frequency each serves: 340 ms where a semitone
# is 10 Hz, 43 ms where it is 300.
RESOLUTIONS = ((4, 1024, 350.0), (4, 512, 1_200.0), (2, 1024, 4_800.0), (0, 2048, np.inf))
HOP_FRAMES = 1024  # at the working rate
HOP_S = HOP_FRAMES / 48_000.0  # about: the working rate is 32 to 64 kHz
MOST_FRAMES = 4_500  # of the map: longer stretches are looked at more sparsely, so that memory stays bounded
FLOOR_DB = -130.0
CHUNK_FRAMES = 1 << 20


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


def level_map(source: Source, *, start: int, end: int, sample_rate_hz: float) -> LevelMap:
    """Return the levels of a stretch, the powers of the channels averaged; beyond the source there is silence.

    A full-scale sine reads 0 dB in its band. Read in pieces: memory is bounded whatever the length.

    Raises
    ------
    Nothing.

    Source: short-time Fourier transform (Hann), one window length for each part of the axis, after halvings of the rate
    """
    halvings = max(0, int(np.floor(np.log2(sample_rate_hz / 32_000.0))))
    rate = sample_rate_hz / 2.0**halvings
    n = max((end - start) >> halvings, HOP_FRAMES)
    sparser = -(-n // (HOP_FRAMES * MOST_FRAMES))
    n_frames = n // (HOP_FRAMES * sparser) + 1
    hz = LOWEST_HZ * 2.0 ** (np.arange(N_BANDS) / BANDS_PER_OCTAVE)
    power = np.zeros((n_frames, N_BANDS), dtype=np.float32)
    done = 0
    for chunk in _chunks(source, start, end, halvings, HOP_FRAMES * sparser):
        count = min(len(chunk[0][0]), n_frames - done)
        low_hz = 0.0
        for frames_by_channel, (halved, size, high_hz) in zip(chunk, RESOLUTIONS, strict=True):
            chosen = np.flatnonzero((hz >= low_hz) & (hz < min(high_hz, 0.48 * rate)))
            low_hz = high_hz
            if len(chosen) and count > 0:
                scale = (2.0 / np.hanning(size + 1)[:size].sum()) ** 2 / len(frames_by_channel)
                for frames in frames_by_channel:
                    padded = size * 2 if halved else size
                    _add_bands(power[done : done + count], frames[:count], chosen, hz, size, padded, rate / 2.0**halved, scale)
        done += count
    levels = 10.0 * np.log10(np.maximum(power, np.float32(10.0 ** (FLOOR_DB / 10.0))))
    hop_s = HOP_FRAMES * sparser / rate
    total = 10.0 * np.log10(np.maximum(power.sum(axis=1), 10.0 ** (FLOOR_DB / 10.0)))
    return LevelMap(hz, start / sample_rate_hz + np.arange(n_frames) * hop_s, levels, np.asarray(total))


def _chunks(source: Source, start: int, end: int, halvings: int, hop: int) -> Iterator[list[list[Floats]]]:
    """Yield windows around every hop, for each resolution and channel (frames, size), a chunk of the source at a time."""
    deepest = halvings + max(halved for halved, _, _ in RESOLUTIONS)
    hop_of_source = hop << halvings
    margin = (max(size << halved for halved, size, _ in RESOLUTIONS) << halvings) // 2 + (1 << deepest) * 64
    margin = -(-margin // hop_of_source) * hop_of_source
    step = max(CHUNK_FRAMES // hop_of_source, 1) * hop_of_source
    for first in range(start, end + hop_of_source, step):
        count = min(step, -(-(end + hop_of_source - first) // hop_of_source) * hop_of_source)
        x = _read(source, first - margin, count + 2 * margin, start, end)
        for _ in range(halvings):
            x = halved_rate(x)
        by_resolution: list[list[Floats]] = []
        at, have = x, 0
        halved_by: dict[int, Floats] = {0: x}
        for wanted in sorted({halved for halved, _, _ in RESOLUTIONS}):
            while have < wanted:
                at, have = halved_rate(at), have + 1
            halved_by[wanted] = at
        for halved, size, _ in RESOLUTIONS:
            y = halved_by[halved]
            origin, every = (margin >> halvings) >> halved, hop >> halved
            n = (count >> halvings) >> halved
            first_frame = origin - size // 2
            by_resolution.append(
                [np.lib.stride_tricks.sliding_window_view(row, size)[first_frame : first_frame + n : every] for row in y]
            )
        yield by_resolution


def _read(source: Source, first: int, count: int, start: int, end: int) -> Floats:
    """Return (channels, count) float32 of the stretch, silence beyond it."""
    out = np.zeros((source.n_channels, count), dtype=np.float32)
    a, b = max(first, start), min(first + count, end)
    if b > a:
        out[:, a - first : b - first] = source.read(a, b - a)
    return out


_TAPS = firwin(47, 0.5, window=("kaiser", 7.0))[24::2].astype(np.float32)


def halved_rate(x: Floats) -> Floats:
    """Return (channels, n) at half the rate; 70 dB down from 0.62 of its Nyquist on."""
    out = np.empty((len(x), x.shape[1] // 2), dtype=np.float32)
    for row, half in zip(x, out, strict=True):
        halving.halved(row, _TAPS, half)
    return out


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
    for at in range(0, len(frames), 512):
        spectrum = rfft(frames[at : at + 512] * window, padded, axis=1)
        bins = spectrum.real**2 + spectrum.imag**2
        bins *= np.float32(scale)
        if len(narrow):
            # Between bins in dB, as a spectral peak is round there.
            a, b = np.log(bins[:, low] + 1e-20), np.log(bins[:, low + 1] + 1e-20)
            power[at : at + 512, narrow] += np.exp((1 - part) * a + part * b)
        if len(wide):
            power[at : at + 512, wide] += np.maximum.reduceat(bins[:, : last[-1] + 1], first[crossing:], axis=1)
