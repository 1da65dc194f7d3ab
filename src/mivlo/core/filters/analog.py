"""The analogue prototypes that every static move is held to (definitions of the trade, see docs/method.md)."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mivlo.core.units import Array

__all__ = ["AnalogSection", "bell", "butterworth", "flat_bell", "high_shelf", "low_shelf", "notch", "response"]


@dataclass(frozen=True, slots=True)
class AnalogSection:
    """H(s) with coefficients in falling powers of s, s normalised to 2π·hz."""

    b: tuple[float, float, float]
    a: tuple[float, float, float]
    hz: float


def bell(hz: float, gain_db: float, q: float) -> AnalogSection:
    """(s² + s·A/Q + 1) / (s² + s/(A·Q) + 1), A = 10^(gain_db/40): width at half the gain in dB."""
    a = 10.0 ** (gain_db / 40.0)
    return AnalogSection((1.0, a / q, 1.0), (1.0, 1.0 / (a * q), 1.0), hz)


def flat_bell(hz: float, gain_db: float, q: float) -> tuple[AnalogSection, ...]:
    """Return a bell of twice the order: |H|² = (G² + G·u⁴)/(1 + G·u⁴), u = q·(f/hz - hz/f), G = 10^(gain_db/20).

    Its width is that of `bell` (at half the gain in dB); between, it is flatter, and its sides are twice as steep.

    Source: S. Orfanidis, "High-order digital parametric equalizer design", JAES 53(11), 2005, Butterworth of order 2
    (from
    memory; the roots are worked out here)
    """
    numerator, denominator = (_band_roots(10.0 ** (sign * gain_db / 80.0), q) for sign in (1.0, -1.0))
    return tuple(
        AnalogSection((1.0, -2.0 * zero.real, abs(zero) ** 2), (1.0, -2.0 * pole.real, abs(pole) ** 2), hz)
        for zero, pole in zip(numerator, denominator, strict=True)
    )


def _band_roots(alpha: float, q: float) -> list[complex]:
    """Return one of each conjugate pair of roots of p² + √2·alpha·p + alpha², p = q·(s + 1/s), the lower in frequency
    first."""
    low_pass_root = alpha * np.exp(0.75j * np.pi)
    return sorted((complex(root) for root in np.roots([1.0, -low_pass_root / q, 1.0])), key=abs)


def low_shelf(hz: float, gain_db: float, q: float) -> AnalogSection:
    """A·(s² + s·√A/Q + A) / (A·s² + s·√A/Q + 1): half the gain in dB at hz, the full gain below."""
    a = 10.0 ** (gain_db / 40.0)
    r = a**0.5 / q
    return AnalogSection((a, a * r, a * a), (a, r, 1.0), hz)


def high_shelf(hz: float, gain_db: float, q: float) -> AnalogSection:
    """A·(A·s² + s·√A/Q + 1) / (s² + s·√A/Q + A): half the gain in dB at hz, the full gain above."""
    a = 10.0 ** (gain_db / 40.0)
    r = a**0.5 / q
    return AnalogSection((a * a, a * r, a), (1.0, r, a), hz)


def notch(hz: float, q: float) -> AnalogSection:
    """(s² + 1) / (s² + s/Q + 1): Q = hz / (-3 dB width)."""
    return AnalogSection((1.0, 0.0, 1.0), (1.0, 1.0 / q, 1.0), hz)


def butterworth(hz: float, order: int, *, high_pass: bool, q: float) -> tuple[AnalogSection, ...]:
    """Return a Butterworth cut of an order as sections; q over 0.7071 sharpens the sharpest section only."""
    sections = []
    if order % 2:
        sections.append(AnalogSection((0.0, 1.0, 0.0) if high_pass else (0.0, 0.0, 1.0), (0.0, 1.0, 1.0), hz))
    qs = sorted(1.0 / (2.0 * np.sin(np.pi * (2 * i + 1) / (2 * order))) for i in range(order // 2))
    for i, section_q in enumerate(qs):
        sharpened = section_q * q * 2.0**0.5 if i == len(qs) - 1 else section_q
        b = (1.0, 0.0, 0.0) if high_pass else (0.0, 0.0, 1.0)
        sections.append(AnalogSection(b, (1.0, float(1.0 / sharpened), 1.0), hz))
    return tuple(sections)


def response(sections: Sequence[AnalogSection], freqs_hz: Array) -> NDArray[np.complex128]:
    """Return the complex response of analogue sections in series at (bins,) frequencies in Hz."""
    out = np.ones(np.shape(freqs_hz), dtype=np.complex128)
    for section in sections:
        s = 1j * np.asarray(freqs_hz, dtype=np.float64) / section.hz
        out *= np.polyval(section.b, s) / np.polyval(section.a, s)
    return out
