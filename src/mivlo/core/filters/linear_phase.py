"""Linear-phase filters of the same magnitudes as chains of sections."""

from collections.abc import Sequence

import numpy as np
from scipy.fft import irfft, next_fast_len, rfftfreq

from mivlo.core.channel import Channel
from mivlo.core.filters.biquad import Biquad, frequency_response
from mivlo.core.units import Array

__all__ = ["kernel_freqs_hz", "linear_phase_kernel", "n_taps_for", "zero_phase_gains"]

SHORTEST_TAPS, LONGEST_TAPS = 1 << 11, 1 << 17
DECAY_DB = 76.0  # what half a filter must have died down by, so that cutting it off stays far under 0.1 dB
TAPER = 0.2  # of each half, faded out
OVERSAMPLING = 4  # of the frequency grid: what wraps round in time lies that much further out


def n_taps_for(sections: Sequence[Biquad]) -> int:
    """Return a power of two: how long the filter must be for the slowest pole or zero, so for the lowest, narrowest move."""
    slowest = 0.0
    for s in sections:
        for c1, c2 in ((s.a1, s.a2), (s.b1 / s.b0, s.b2 / s.b0)):
            radius = float(np.max(np.abs(np.roots([1.0, c1, c2])))) if (c1 or c2) else 0.0
            # A zero on the circle (of a cut, of a notch) is a corner of the magnitude, not a slow decay.
            slowest = max(slowest, radius if radius < 1.0 - 1e-9 else 0.0)
    needed = 2.0 * DECAY_DB / (-20.0 * np.log10(min(max(slowest, 0.1), 1.0 - 1e-7)))
    return int(min(max(2 ** int(np.ceil(np.log2(needed / (1.0 - TAPER)))), SHORTEST_TAPS), LONGEST_TAPS))


def zero_phase_gains(
    sections: Sequence[tuple[Biquad, Channel]], freqs_hz: Array, *, n_channels: int, sample_rate_hz: float
) -> Array:
    """Return the magnitudes of sections in their order, without phase.

    Parameters
    ----------
    sections : each with the channel that it acts on

    Returns
    -------
    (bins,) float64 where all act on every channel alike, else (2, 2, bins): what of each input goes to each output

    Raises
    ------
    Nothing.

    Source: ours; a section on the mid alone is the matrix ½((1 + h, h - 1), (h - 1, 1 + h)), on the left diag(h, 1)
    """
    if n_channels == 1:
        sections = [(section, "both") for section, channel in sections if channel != "side"]
    if all(channel == "both" for _, channel in sections):
        return np.asarray(np.abs(frequency_response([s for s, _ in sections], freqs_hz, sample_rate_hz=sample_rate_hz)))
    gains = np.zeros((2, 2, len(freqs_hz)))
    gains[0, 0] = gains[1, 1] = 1.0
    for section, channel in sections:
        h = np.abs(frequency_response([section], freqs_hz, sample_rate_hz=sample_rate_hz))
        gains = np.einsum("abf,bcf->acf", _lane_matrix(h, channel), gains)
    return gains


def _lane_matrix(h: Array, channel: Channel) -> Array:
    one, zero = np.ones_like(h), np.zeros_like(h)
    if channel in ("left", "right"):
        return np.array([[h, zero], [zero, one]] if channel == "left" else [[one, zero], [zero, h]])
    if channel == "both":
        return np.array([[h, zero], [zero, h]])
    cross = (h - 1.0) / 2.0 if channel == "mid" else (1.0 - h) / 2.0
    same = (1.0 + h) / 2.0
    return np.array([[same, cross], [cross, same]])


def linear_phase_kernel(gains: Array, n_taps: int) -> Array:
    """Return the (..., n_taps) symmetric filter of (..., bins) real gains at `kernel_freqs_hz`; its centre is n_taps // 2.

    Source: frequency sampling on a fourfold grid; the outer fifth of each half is faded out by a raised cosine
    """
    whole = np.roll(irfft(gains, axis=-1), n_taps // 2, axis=-1)[..., :n_taps]
    away = np.abs(np.arange(n_taps) - n_taps // 2) / (n_taps / 2.0)
    fade = np.clip((away - (1.0 - TAPER)) / TAPER, 0.0, 1.0)
    return np.asarray(whole * (0.5 + 0.5 * np.cos(np.pi * fade)))


def kernel_freqs_hz(n_taps: int, sample_rate_hz: float) -> Array:
    """Return where a kernel of n_taps wants its gains."""
    return np.asarray(rfftfreq(next_fast_len(n_taps * OVERSAMPLING, real=True), 1.0 / sample_rate_hz), dtype=np.float64)
