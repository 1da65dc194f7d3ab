"""Digital second-order sections: coefficients, responses, and their state-variable form."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivlo.core.units import Array

__all__ = ["Biquad", "decay_s", "frequency_response", "magnitude_response", "state_variable_form"]


@dataclass(frozen=True, slots=True)
class Biquad:
    """H(z) = (b0 + b1·z⁻¹ + b2·z⁻²) / (1 + a1·z⁻¹ + a2·z⁻²), stable and with real coefficients."""

    b0: float
    b1: float
    b2: float
    a1: float
    a2: float

    def inverse(self) -> "Biquad":
        """Return 1/H(z); stable only where this section is minimum-phase."""
        return Biquad(1.0 / self.b0, self.a1 / self.b0, self.a2 / self.b0, self.b1 / self.b0, self.b2 / self.b0)


def decay_s(section: Biquad, *, fall_db: float, sample_rate_hz: float) -> float:
    """Return in how many seconds what a section has taken in dies away by so many dB.

    Parameters
    ----------
    fall_db : above 0

    Returns
    -------
    by its slowest pole; infinite on the unit circle

    Raises
    ------
    Nothing.

    Source: impulse response of a second-order section, r^n (A. Oppenheim, R. Schafer, Discrete-Time Signal Processing)
    """
    spread = section.a1**2 - 4.0 * section.a2
    radius = np.sqrt(section.a2) if spread < 0.0 else (abs(section.a1) + np.sqrt(spread)) / 2.0
    if radius >= 1.0:
        return float(np.inf)
    if radius <= 0.0:
        return 2.0 / sample_rate_hz
    return float(fall_db / (-20.0 * np.log10(radius)) / sample_rate_hz)


def frequency_response(sections: Sequence[Biquad], freqs_hz: Array, *, sample_rate_hz: float) -> NDArray[np.complex128]:
    """Return the complex response of sections in series.

    Parameters
    ----------
    sections : any number; none at all is a wire
    freqs_hz : (bins,) float64, 0 to half of sample_rate_hz

    Returns
    -------
    (bins,) complex128

    Raises
    ------
    Nothing: callers check frequencies against the rate.

    Source: definition of the z-transform on the unit circle. The sums are written with sin²(w/2)
    so that they keep their digits at 20 Hz, where 1 + a1 + a2 nearly cancels.
    """
    w = 2.0 * np.pi * np.asarray(freqs_hz, dtype=np.float64) / sample_rate_hz
    half_sin2 = np.sin(w / 2.0) ** 2
    sin_w = np.sin(w)

    def centred(c0: float, c1: float, c2: float) -> NDArray[np.complex128]:
        # c0·e^{jw} + c1 + c2·e^{-jw}: the common factor e^{-jw} cancels between numerator and denominator.
        return (c0 + c1 + c2) - 2.0 * (c0 + c2) * half_sin2 + 1j * (c0 - c2) * sin_w

    response = np.ones(w.shape, dtype=np.complex128)
    for s in sections:
        response *= centred(s.b0, s.b1, s.b2) / centred(1.0, s.a1, s.a2)
    return response


def magnitude_response(sections: Sequence[Biquad], freqs_hz: Array, *, sample_rate_hz: float) -> Array:
    """Return the (bins,) magnitudes of sections in series: of `frequency_response`, in a tenth of its time.

    Raises
    ------
    Nothing: callers check frequencies against the rate.

    Source: the squares of its real and imaginary part, sin²(w) being 4·sin²(w/2)·(1 - sin²(w/2))
    """
    half_sin2 = np.sin(np.pi / sample_rate_hz * np.asarray(freqs_hz, dtype=np.float64)) ** 2
    sin2 = 4.0 * half_sin2 * (1.0 - half_sin2)

    def squared(c0: float, c1: float, c2: float) -> Array:
        real = (c0 + c1 + c2) - 2.0 * (c0 + c2) * half_sin2
        return np.asarray(real * real if c0 == c2 else real * real + (c0 - c2) ** 2 * sin2)

    power = np.ones(half_sin2.shape)
    for s in sections:
        power *= squared(s.b0, s.b1, s.b2) / squared(1.0, s.a1, s.a2)
    return np.sqrt(power)


def state_variable_form(section: Biquad) -> Array:
    """Return (g, k, m0, m1, m2): the section as a trapezoidal state-variable filter with output taps.

    Parameters
    ----------
    section : stable

    Returns
    -------
    (5,) float64: integrator gain g, damping k, and the taps of input, band and low output

    Raises
    ------
    Nothing: a stable section always has this form.

    Source: topology after A. Simper, "Linear trapezoidal state variable filter" (2013), from memory;
    the coefficients are solved here from a1, a2, b0..b2, so that any matched design can be run in a form
    whose states stay meaningful while the coefficients move. tests/core/test_engine.py shows both equal.
    """
    at_dc = 1.0 + section.a1 + section.a2
    at_nyquist = 1.0 - section.a1 + section.a2
    g = np.sqrt(at_dc / at_nyquist)
    d = 4.0 / at_nyquist  # 1 + g·k + g²
    k = (1.0 - section.a2) * d / (2.0 * g)
    # Numerator times d in powers of (1 - z⁻¹), g(1 + z⁻¹): m0·(high + k·band + low) + m1·band + m2·low.
    high = (section.b0 - section.b1 + section.b2) * d / 4.0
    low = (section.b0 + section.b1 + section.b2) * d / 4.0 / g**2
    band = (section.b0 - section.b2) * d / 2.0 / g
    return np.array([g, k, high, band - high * k, low - high])
