"""How far what is added to a sound stands above what that sound masks: a yardstick that shares nothing with the core.

Source: ITU-R BS.1387-1, "Method for objective measurements of perceived audio quality", the basic version's peripheral
ear model (FFT of 2048 frames, quarter-Bark bands, outer ear, internal noise, level-dependent spreading) and its masking
threshold; constants and formulas from memory. Without its smearing over time.
"""

import numpy as np

from mivlo.core.units import Array

__all__ = ["noise_to_mask_db"]

SIZE = 2_048
STEP_BARK = 0.25
FULL_SCALE_DB_SPL = 92.0


def _bark(hz: Array) -> Array:
    return np.asarray(7.0 * np.arcsinh(hz / 650.0))


def _outer_ear(hz: Array) -> Array:
    f = np.maximum(hz, 20.0) / 1_000.0
    weight_db = -0.6 * 3.64 * f**-0.8 + 6.5 * np.exp(-0.6 * (f - 3.3) ** 2) - 1e-3 * f**3.6
    return np.asarray(10.0 ** (weight_db / 10.0))


def _bands(rate: float) -> tuple[Array, Array]:
    """Return (bands, bins) shares and (bands,) centres in Bark."""
    low, high = (float(_bark(np.array(hz))) for hz in (80.0, 18_000.0))
    edges = np.linspace(low, high, int((high - low) / STEP_BARK) + 1)
    hz = _bins_hz(rate)
    bin_low, bin_high = (np.maximum(_bark(hz + side * rate / SIZE / 2.0), 0.0) for side in (-1, 1))
    overlap = np.minimum(bin_high, edges[1:, None]) - np.maximum(bin_low, edges[:-1, None])
    return np.clip(overlap, 0.0, None) / np.maximum(bin_high - bin_low, 1e-9), (edges[:-1] + edges[1:]) / 2.0


def _bins_hz(rate: float) -> Array:
    return np.asarray(np.fft.rfftfreq(SIZE, 1.0 / rate), dtype=np.float64)


def _magnitudes(x: Array) -> Array:
    """Return (frames, bins) of a mono sound, in amplitudes of which 1 is 0 dB SPL."""
    frames = np.lib.stride_tricks.sliding_window_view(x, SIZE)[:: SIZE // 2] * np.hanning(SIZE) * np.sqrt(8.0 / 3.0)
    return np.asarray(np.abs(np.fft.rfft(frames, axis=1)) * (10.0 ** (FULL_SCALE_DB_SPL / 20.0) / (SIZE / 2.0)))


def _pitch_pattern(x: Array, rate: float) -> Array:
    """Return (frames, bands) of a mono sound's powers, before spreading."""
    power = _magnitudes(x) ** 2
    return np.asarray((power * _outer_ear(_bins_hz(rate))) @ _bands(rate)[0].T)


def _spread(pattern: Array, barks: Array) -> Array:
    """Return the excitation: 27 dB a Bark downwards, upwards by level and frequency, added at the power of 0.4."""
    hz = 650.0 * np.sinh(barks / 7.0)
    internal = 10.0 ** (0.4 * 0.364 * (hz / 1_000.0) ** -0.8)
    e = pattern + internal
    level_db = 10.0 * np.log10(e)
    up = -24.0 - 230.0 / hz + 0.2 * level_db
    step = barks[None, :] - barks[:, None]
    out = np.empty_like(e)
    for at, (row, slopes) in enumerate(zip(e, up, strict=True)):
        gain_db = np.where(step < 0.0, 27.0 * step, slopes[:, None] * step)
        gain = 10.0 ** (gain_db / 10.0)
        gain /= gain.sum(axis=1, keepdims=True)
        out[at] = ((row[:, None] * gain) ** 0.4).sum(axis=0) ** 2.5
    alone = 10.0 ** (np.where(step < 0.0, 27.0 * step, -24.0 * step) / 10.0)
    alone /= alone.sum(axis=1, keepdims=True)
    return np.asarray(out / ((alone**0.4).sum(axis=0) ** 2.5))


def noise_to_mask_db(reference: Array, test: Array, *, sample_rate_hz: float) -> Array:
    """Return (frames,) the greatest ratio in any band of what was added to what the reference masks there, in dB.

    Both are mono, re full scale.
    """
    barks = _bands(sample_rate_hz)[1]
    difference = _magnitudes(reference) - _magnitudes(test)
    noise = (difference**2 * _outer_ear(_bins_hz(sample_rate_hz))) @ _bands(sample_rate_hz)[0].T
    # m(k): 3 dB below 12 Bark, then a quarter of the place above the lowest band
    place = barks - barks[0]
    offset_db = np.where(place <= 12.0, 3.0, 0.25 * place)
    mask = _spread(_pitch_pattern(reference, sample_rate_hz), barks) / 10.0 ** (offset_db / 10.0)
    return np.asarray(10.0 * np.log10((noise / mask).max(axis=1) + 1e-12))
