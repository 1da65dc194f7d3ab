"""The power that reaches each place of the ear over time: what the model of hearing looks at."""

from dataclasses import dataclass

import numpy as np
from scipy.fft import rfft

from mivlo.core import kernels
from mivlo.core.engine.source import Source
from mivlo.core.ensemble.hearing import CAMS, STEP_CAMS, hz_to_cams, transfer_db
from mivlo.core.spectra.windows import halvings_of, windows
from mivlo.core.units import Array, Floats

__all__ = ["HOP_FRAMES", "PER_FRAME", "RESOLUTIONS", "ErbMap", "bin_weights", "erb_map", "frame_s", "with_hop"]

# Halvings of the rate, window in frames at that rate, and the highest frequency each serves: 170 ms where an ERB is
# 30 Hz.
RESOLUTIONS = ((4, 512, 350.0), (4, 256, 1_200.0), (2, 512, 4_800.0), (0, 2048, np.inf))
HOP_FRAMES = 1_024  # at the working rate; two of them make a frame of the map
PER_FRAME = 2
FRAMES_AT_ONCE = 128  # of spectra: they stay in the cache


@dataclass(frozen=True, slots=True)
class ErbMap:
    """`power` (channels, frames, bands) float32: mean squares behind the middle ear, re full scale, from `start_s`
    on."""

    power: Floats
    start_s: float
    hop_s: float


def erb_map(source: Source, *, start: int, end: int, sample_rate_hz: float) -> ErbMap:
    """Return the power in bands half an ERB apart of a stretch, every 43 ms or so; beyond the source there is silence.

    Raises
    ------
    Nothing.

    Source: short-time Fourier transform (Hann), one window length for each part of the axis; each bin shared between
    the two nearest bands of the ERB scale (Glasberg and Moore 1990)
    """
    halvings = halvings_of(sample_rate_hz)
    rate = sample_rate_hz / 2.0**halvings
    n_frames = max((end - start) >> halvings, 1) // (HOP_FRAMES * PER_FRAME) + 1
    power = np.zeros((source.n_channels, n_frames * PER_FRAME, len(CAMS)), dtype=np.float32)
    weights = bin_weights(rate)
    done = 0
    for chunk in windows(source, start=start, end=end, halvings=halvings, hop=HOP_FRAMES, resolutions=RESOLUTIONS):
        count = max(min(len(chunk[0][0]), power.shape[1] - done), 0)
        for by_channel, (first_bin, bands, shares) in zip(chunk, weights, strict=True):
            size = by_channel[0].shape[1]
            window = np.hanning(size + 1)[:size].astype(np.float32)
            for channel, frames in enumerate(by_channel):
                for at in range(0, count, FRAMES_AT_ONCE):
                    until = min(at + FRAMES_AT_ONCE, count)
                    spectra = rfft(frames[at:until] * window, axis=1, overwrite_x=True)
                    kernels.band_power.add_band_power(
                        spectra, first_bin, bands, shares, power[channel, done + at : done + until]
                    )
        done += count
    joined = power.reshape(source.n_channels, n_frames, PER_FRAME, len(CAMS)).mean(axis=2)
    return ErbMap(joined, start / sample_rate_hz, frame_s(sample_rate_hz))


def frame_s(sample_rate_hz: float) -> float:
    """Return how long a frame of the map is. Raises nothing; source: ours."""
    return float(PER_FRAME * HOP_FRAMES * 2.0 ** halvings_of(sample_rate_hz) / sample_rate_hz)


def with_hop(heard: ErbMap, hop_s: float) -> ErbMap:
    """Return a map with frames of another length (of another rate), interpolated between its own."""
    if abs(heard.hop_s - hop_s) < 1e-9:
        return heard
    n_frames = int(heard.power.shape[1] * heard.hop_s / hop_s) + 1
    position = np.minimum(np.arange(n_frames) * hop_s / heard.hop_s, heard.power.shape[1] - 1.0)
    low = np.minimum(position.astype(int), max(heard.power.shape[1] - 2, 0))
    part = (position - low)[None, :, None].astype(np.float32)
    high = np.minimum(low + 1, heard.power.shape[1] - 1)
    return ErbMap(heard.power[:, low] * (1 - part) + heard.power[:, high] * part, heard.start_s, hop_s)


def bin_weights(rate_hz: float) -> list[tuple[int, np.ndarray, Floats]]:
    """Return, for each resolution at a working rate, the first bin, the lower of two bands of each bin from there on,
    and (bins, 2) weights to mean squares. Raises nothing; source: as `erb_map`."""
    lows = (0.0, *(high for _, _, high in RESOLUTIONS))
    return [
        _weights(size, rate_hz / 2.0**halved, low_hz, high_hz)
        for (halved, size, high_hz), low_hz in zip(RESOLUTIONS, lows, strict=False)
    ]


def _weights(size: int, rate_hz: float, low_hz: float, high_hz: float) -> tuple[int, np.ndarray, Floats]:
    """Return the first bin from low_hz on, the lower of the two bands of each bin, and (bins, 2) weights to mean
    squares."""
    hz = np.arange(size // 2 + 1) * rate_hz / size
    chosen = np.flatnonzero((hz >= max(low_hz, 20.0)) & (hz < min(high_hz, 0.48 * rate_hz)))
    position = (hz_to_cams(hz[chosen]) - CAMS[0]) / STEP_CAMS
    chosen, position = chosen[position > -1.0], position[position > -1.0]
    chosen, position = chosen[position < len(CAMS)], position[position < len(CAMS)]
    bands = np.floor(position).astype(np.int64)
    window = np.hanning(size + 1)[:size]
    # Parseval: the mean square of a stretch is the sum of its one-sided spectrum's powers times 2 / (n · Σw²).
    scale: Array = 2.0 / (size * float(np.sum(window**2))) * 10.0 ** (transfer_db(np.maximum(hz[chosen], 20.0)) / 10.0)
    upper = position - bands
    return int(chosen[0]), bands, (np.stack([1.0 - upper, upper], axis=1) * scale[:, None]).astype(np.float32)
