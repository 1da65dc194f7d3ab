"""Loudness and peak after ITU-R BS.1770-4 (coefficients from memory, checked against two other programs).

Full scale is the peak of a full-scale sine. What has no loudness (silence, under 400 ms) has None.
"""

import numpy as np

from mivlo.core.k_weighting import k_weighting, power_to_lufs
from mivlo.core.units import Array

__all__ = [
    "integrated_loudness",
    "momentary_powers",
    "sample_peak_db",
    "true_peak_db",
]

HOP_S = 0.1
ABSOLUTE_GATE_LUFS, RELATIVE_GATE_LU = -70.0, -10.0
TRUE_PEAK_OVERSAMPLING = 4
TRUE_PEAK_CHUNK_FRAMES, TRUE_PEAK_MARGIN_FRAMES = 1 << 18, 512


def momentary_powers(samples: Array, *, sample_rate_hz: float) -> Array:
    """Return the K-weighted power, summed over channels, of 400 ms windows every 100 ms.

    Parameters
    ----------
    samples : (channels, frames) float64, one or two channels

    Returns
    -------
    (windows,) float64; empty where there are under 400 ms

    Raises
    ------
    Nothing.

    Source: BS.1770-4, annex 1 (from memory)
    """
    # Imported late: it takes longer to load than the rest of the application, and only measurements need it.
    from scipy.signal import sosfilt

    hop = round(HOP_S * sample_rate_hz)
    n_hops = samples.shape[1] // hop
    if n_hops < 4:
        return np.zeros(0)
    weighted = sosfilt(k_weighting(sample_rate_hz), samples, axis=1)
    hops = np.sum(weighted[:, : n_hops * hop].reshape(samples.shape[0], n_hops, hop) ** 2, axis=(0, 2))
    return np.asarray((hops[:-3] + hops[1:-2] + hops[2:-1] + hops[3:]) / (4 * hop))


def integrated_loudness(samples: Array, *, sample_rate_hz: float) -> float | None:
    """Return the gated loudness in LUFS of (channels, frames), or None where there is none."""
    powers = momentary_powers(samples, sample_rate_hz=sample_rate_hz)
    powers = powers[power_to_lufs(powers) > ABSOLUTE_GATE_LUFS]
    if not powers.size:
        return None
    gate = float(power_to_lufs(np.mean(powers, keepdims=True))[0]) + RELATIVE_GATE_LU
    return float(power_to_lufs(np.mean(powers[power_to_lufs(powers) > gate], keepdims=True))[0])


def sample_peak_db(samples: Array) -> float | None:
    """Return the highest sample in dBFS, or None for silence."""
    peak = float(np.max(np.abs(samples))) if samples.size else 0.0
    return 20.0 * np.log10(peak) if peak > 0.0 else None


def true_peak_db(samples: Array) -> float | None:
    """Return the true peak in dBTP of (channels, frames) by fourfold oversampling, or None for silence."""
    import soxr  # late, like scipy above

    peak = 0.0
    for start in range(0, samples.shape[1], TRUE_PEAK_CHUNK_FRAMES):
        first, last = max(start - TRUE_PEAK_MARGIN_FRAMES, 0), start + TRUE_PEAK_CHUNK_FRAMES + TRUE_PEAK_MARGIN_FRAMES
        up = soxr.resample(samples[:, first:last].T, 1, TRUE_PEAK_OVERSAMPLING, quality="VHQ")
        inner = up[(start - first) * TRUE_PEAK_OVERSAMPLING :][: TRUE_PEAK_CHUNK_FRAMES * TRUE_PEAK_OVERSAMPLING]
        peak = max(peak, float(np.max(np.abs(inner))), float(np.max(np.abs(samples[:, start:last]))))
    return 20.0 * np.log10(peak) if peak > 0.0 else None
