"""Linear-phase filters of the same magnitudes as chains of sections."""

from collections.abc import Iterable, Sequence
from typing import Literal

import numpy as np
import scipy
from numpy.fft import irfft, rfftfreq
from numpy.typing import NDArray

from mivlo.core.channel import Channel
from mivlo.core.filters.biquad import Biquad, magnitude_response
from mivlo.core.units import Array

__all__ = [
    "Lanes", "has_linear_phase_form", "kernel_freqs_hz", "lane_gains", "lanes_of", "linear_phase_kernel", "n_taps_for",
    "zero_phase_gains",
]  # fmt: skip

SHORTEST_TAPS, LONGEST_TAPS = 1 << 11, 1 << 19
DECAY_DB = (
    34.0  # what half a filter must have died down by; measured: deep bells of the longest filter stay within 0.03 dB
)
CIRCLE = 1e-9  # nearer to the unit circle, a zero is a corner of the magnitude, not a slow decay
NOTCH_FLOOR, NOTCH_PERIODS = 0.01, 6.7  # -40 dB, and periods of the width there: 0.08 dB at most
TAPER = 0.2  # of each half, faded out
OVERSAMPLING = 2  # of the frequency grid: what wraps round in time lies that much further out


def n_taps_for(sections: Sequence[Biquad]) -> int:
    """Return a power of two: how long the filter must be for the lowest and narrowest of its sections."""
    needed = _needed_taps(sections)
    return int(min(max(2 ** int(np.ceil(np.log2(max(needed, 1.0)))), SHORTEST_TAPS), LONGEST_TAPS))


def has_linear_phase_form(sections: Sequence[Biquad]) -> bool:
    """Tell whether LONGEST_TAPS are enough; low notches, and deep bells as narrow as Q 30 at 20 Hz, want more.

    A notch's magnitude has a corner: of Q 20 at 100 Hz, a filter that follows it down to -40 dB lasts half a minute.
    """
    return _needed_taps(sections) <= LONGEST_TAPS


def _needed_taps(sections: Sequence[Biquad]) -> float:
    return max((_taps_of(section) for section in sections), default=0.0)


def _taps_of(section: Biquad) -> float:
    """Return how many taps a section wants: its slowest pole or zero must have died down at both ends."""
    poles, zeros = _roots(section.a1, section.a2), _roots(section.b1 / section.b0, section.b2 / section.b0)
    radii = np.abs(np.concatenate([poles, zeros]))
    dying = radii[(radii > 0.0) & (radii < 1.0 - CIRCLE)]
    taps = 2.0 * DECAY_DB / (1.0 - TAPER) / (-20.0 * np.log10(np.max(dying))) if dying.size else 0.0
    if np.any((np.abs(zeros) >= 1.0 - CIRCLE) & (np.abs(zeros.imag) > CIRCLE)):
        # A notch: its magnitude has a corner at its zero, and must be right down to a hundredth on either side of it.
        taps = max(taps, NOTCH_PERIODS * 4.0 * np.pi / (NOTCH_FLOOR * (1.0 - np.max(np.abs(poles))) * 2.0 * np.pi))
    return float(taps)


def _roots(c1: float, c2: float) -> NDArray[np.complex128]:
    return np.asarray(np.roots([1.0, c1, c2]), dtype=np.complex128) if (c1 or c2) else np.zeros(1, dtype=np.complex128)


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
        return magnitude_response([s for s, _ in sections], freqs_hz, sample_rate_hz=sample_rate_hz)
    gains = np.zeros((2, 2, len(freqs_hz)))
    gains[0, 0] = gains[1, 1] = 1.0
    for section, channel in sections:
        h = magnitude_response([section], freqs_hz, sample_rate_hz=sample_rate_hz)
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


Lanes = Literal["alike", "left and right", "mid and side", "crossed"]
_LANES: dict[Lanes, tuple[set[Channel], ...]] = {
    "alike": ({"both"},),
    "left and right": ({"both", "left"}, {"both", "right"}),
    "mid and side": ({"both", "mid"}, {"both", "side"}),
}


def lanes_of(channels: Iterable[Channel]) -> Lanes:
    """Return between which channels sections of these channels keep the sound apart; crossed where between none."""
    used = set(channels)
    return next((lanes for lanes, rows in _LANES.items() if used <= set().union(*rows)), "crossed")


def lane_gains(
    sections: Sequence[tuple[Biquad, Channel]], freqs_hz: Array, lanes: Lanes, *, sample_rate_hz: float
) -> Array:
    """Return the (lanes, bins) magnitudes of sections in each lane, or all (2, 2, bins) where they are crossed."""
    if lanes == "crossed":
        return zero_phase_gains(sections, freqs_hz, n_channels=2, sample_rate_hz=sample_rate_hz)
    rows = [[section for section, channel in sections if channel in row] for row in _LANES[lanes]]
    return np.array([magnitude_response(row, freqs_hz, sample_rate_hz=sample_rate_hz) for row in rows])


def linear_phase_kernel(gains: Array, n_taps: int) -> Array:
    """Return the (..., n_taps) symmetric filter of (..., bins) real gains at `kernel_freqs_hz`; its centre is n_taps
    // 2.

    Source: frequency sampling on a twofold grid; the outer fifth of each half is faded out by a raised cosine
    """
    whole = np.roll(irfft(gains, axis=-1), n_taps // 2, axis=-1)[..., :n_taps]
    away = np.abs(np.arange(n_taps) - n_taps // 2) / (n_taps / 2.0)
    fade = np.clip((away - (1.0 - TAPER)) / TAPER, 0.0, 1.0)
    return np.asarray(whole * (0.5 + 0.5 * np.cos(np.pi * fade)))


def kernel_freqs_hz(n_taps: int, sample_rate_hz: float) -> Array:
    """Return where a kernel of n_taps wants its gains."""
    return np.asarray(
        rfftfreq(scipy.fft.next_fast_len(n_taps * OVERSAMPLING, real=True), 1.0 / sample_rate_hz), dtype=np.float64
    )
