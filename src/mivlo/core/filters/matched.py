"""Digital sections whose magnitudes follow the analogue shapes up to 20 kHz.

Plain bilinear designs squeeze everything towards half the sampling rate. Here the poles are those of the
impulse-invariant design and the numerator is chosen for magnitude, after M. Vicanek, "Matched Second Order
Digital Filters" (2016, formulas from memory). |H|² of a section is (B·φ)/(A·φ) with φ = (cos²(w/2),
sin²(w/2), sin²(w)): numerator and denominator are linear in B and A, so matching is a linear problem.
Bells take the closed form (exact gain at the centre, flat top); shelves and notches a weighted
least-squares fit on a grid. Cuts in gain are the exact inverses of the boosts.
"""

import numpy as np

from mivlo.core.filters import analog
from mivlo.core.filters.analog import AnalogSection
from mivlo.core.filters.biquad import Biquad, frequency_response
from mivlo.core.units import Array

__all__ = ["bell", "cut_sections", "high_shelf", "low_shelf", "notch"]

FIT_LOWEST_HZ = 20.0
FIT_HIGHEST_HZ = 20_000.0  # the range in which the shapes are promised
FIT_POINTS = 96
# Below this part of the rate the bilinear design is within 0.2 dB at any Q, and the matched ones lose digits to
# cancellation (a 50 Hz notch of Q 30 at 96 kHz would miss by decibels).
BILINEAR_BELOW = 1.0 / 480.0
INVERTIBLE_BELOW = 0.99999


def bell(hz: float, gain_db: float, q: float, *, sample_rate_hz: float) -> Biquad:
    """Return the digital bell (arguments and shape as `analog.bell`)."""
    if gain_db < 0.0:
        return bell(hz, -gain_db, q, sample_rate_hz=sample_rate_hz).inverse()
    if gain_db == 0.0:
        return Biquad(1.0, 0.0, 0.0, 0.0, 0.0)
    if hz < BILINEAR_BELOW * sample_rate_hz:
        return _bilinear(analog.bell(hz, gain_db, q), sample_rate_hz)
    w0 = 2.0 * np.pi * hz / sample_rate_hz
    a1, a2 = _impulse_invariant_poles(w0, 1.0 / (10.0 ** (gain_db / 40.0) * q))
    big_a = _squared_magnitude_terms(1.0, a1, a2)
    phi = _phi(np.array([w0]))[:, 0]
    top = 10.0 ** (gain_db / 10.0)
    value = top * float(big_a @ phi)
    slope = top * float(-big_a[0] + big_a[1] + 4.0 * (phi[0] - phi[1]) * big_a[2])
    b_2 = (value - slope * phi[1] - big_a[0]) / (4.0 * phi[1] ** 2)
    b_1 = slope + big_a[0] + 4.0 * (phi[1] - phi[0]) * b_2
    b0, b1, b2 = _minimum_phase(big_a[0], b_1, b_2)
    return Biquad(b0, b1, b2, a1, a2)


def low_shelf(hz: float, gain_db: float, q: float, *, sample_rate_hz: float) -> Biquad:
    """Return the digital low shelf (arguments and shape as `analog.low_shelf`)."""
    if gain_db < 0.0:
        return low_shelf(hz, -gain_db, q, sample_rate_hz=sample_rate_hz).inverse()
    return _shelf(analog.low_shelf(hz, gain_db, q), sample_rate_hz)


def high_shelf(hz: float, gain_db: float, q: float, *, sample_rate_hz: float) -> Biquad:
    """Return the digital high shelf (arguments and shape as `analog.high_shelf`)."""
    if gain_db < 0.0:
        return high_shelf(hz, -gain_db, q, sample_rate_hz=sample_rate_hz).inverse()
    return _shelf(analog.high_shelf(hz, gain_db, q), sample_rate_hz)


def notch(hz: float, q: float, *, sample_rate_hz: float) -> Biquad:
    """Return the digital notch: its zero exactly at hz, its poles fitted to the analogue magnitude."""
    prototype = analog.notch(hz, q)
    if hz < BILINEAR_BELOW * sample_rate_hz:
        return _bilinear(prototype, sample_rate_hz)
    zero = -2.0 * np.cos(2.0 * np.pi * hz / sample_rate_hz)
    grid_hz = _fit_grid_hz(prototype, sample_rate_hz)
    phi = _phi(2.0 * np.pi * grid_hz / sample_rate_hz)
    target = np.abs(analog.response([prototype], grid_hz)) ** 2
    numerator = _squared_magnitude_terms(1.0, zero, 1.0) @ phi
    at_dc = (2.0 + zero) ** 2  # unity gain at 0 Hz, held exactly
    weight = target / np.maximum(numerator, 1e-30)
    fitted = _least_squares((phi[1:] * weight).T, np.ones_like(weight) - at_dc * phi[0] * weight)
    d0, d1, d2 = _minimum_phase(at_dc, fitted[0], fitted[1])
    return Biquad(1.0 / d0, zero / d0, 1.0 / d0, d1 / d0, d2 / d0)


def cut_sections(
    hz: float, order: int, q: float, *, high_pass: bool, sample_rate_hz: float
) -> tuple[Biquad, ...]:
    """Return a Butterworth low cut (high_pass) or high cut as digital sections of first and second order."""
    prototypes = analog.butterworth(hz, order, high_pass=high_pass, q=q)
    design = _high_pass if high_pass else _fit_numerator
    return tuple(design(prototype, sample_rate_hz) for prototype in prototypes)


def _bilinear(prototype: AnalogSection, sample_rate_hz: float) -> Biquad:
    """Bilinear transform, warped so that hz is exact (Audio EQ Cookbook, R. Bristow-Johnson; W3C Note 2021)."""
    t = np.tan(np.pi * prototype.hz / sample_rate_hz)

    def transformed(c: tuple[float, float, float]) -> tuple[float, float, float]:
        s2, s1, s0 = c[0], c[1] * t, c[2] * t * t
        return s2 + s1 + s0, 2.0 * (s0 - s2), s2 - s1 + s0

    b, a = transformed(prototype.b), transformed(prototype.a)
    return Biquad(*(float(value / a[0]) for value in (*b, *a[1:])))


def _shelf(prototype: AnalogSection, sample_rate_hz: float) -> Biquad:
    """Return the fitted shelf, or the bilinear one where that is nearer (low, or a resonant shelf near the top)."""
    bilinear = _bilinear(prototype, sample_rate_hz)
    if prototype.hz < BILINEAR_BELOW * sample_rate_hz:
        return bilinear
    grid_hz = _fit_grid_hz(prototype, sample_rate_hz)
    wanted = np.abs(analog.response([prototype], grid_hz))

    def worst_ratio(section: Biquad) -> float:
        got = np.abs(frequency_response([section], grid_hz, sample_rate_hz=sample_rate_hz))
        return float(np.max(np.abs(np.log(got / wanted))))

    fitted = _fit_numerator(prototype, sample_rate_hz)
    return min((fitted, bilinear), key=worst_ratio) if _invertible(fitted) else bilinear


def _invertible(section: Biquad) -> bool:
    """Tell whether a section's zeros lie inside the unit circle: a cut is the inverse of a boost, and must not ring on."""
    b1, b2 = section.b1 / section.b0, section.b2 / section.b0
    return abs(b2) < INVERTIBLE_BELOW and abs(b1) < 1.0 + b2 - (1.0 - INVERTIBLE_BELOW)


def _high_pass(prototype: AnalogSection, sample_rate_hz: float) -> Biquad:
    """Zeros at 0 Hz, poles and gain for the analogue magnitude."""
    w0 = 2.0 * np.pi * prototype.hz / sample_rate_hz
    if prototype.a[0] == 0.0:
        pole, gain = _first_order_high_pass(w0)
        return Biquad(gain, -gain, 0.0, -pole, 0.0)
    a1, a2 = _impulse_invariant_poles(w0, prototype.a[1])
    phi = _phi(np.array([w0]))[:, 0]
    peak = 1.0 / prototype.a[1]
    b0 = peak * np.sqrt(_squared_magnitude_terms(1.0, a1, a2) @ phi) / (4.0 * phi[1])
    return Biquad(float(b0), float(-2.0 * b0), float(b0), a1, a2)


def _first_order_high_pass(w0: float) -> tuple[float, float]:
    """Return pole p and gain g of g·(1 - z⁻¹)/(1 - p·z⁻¹), -3.01 dB at w0."""
    pole = float(np.exp(-w0))
    at_w0 = abs((1.0 - np.exp(-1j * w0)) / (1.0 - pole * np.exp(-1j * w0)))
    return pole, float(np.sqrt(0.5) / at_w0)


def _fit_numerator(prototype: AnalogSection, sample_rate_hz: float) -> Biquad:
    """Impulse-invariant poles; numerator by least squares of the relative error of |H|², exact at 0 Hz."""
    w_unit = 2.0 * np.pi * prototype.hz / sample_rate_hz
    if prototype.a[0] == 0.0:
        a1, a2 = -float(np.exp(-w_unit)), 0.0
    else:
        natural = np.sqrt(prototype.a[2] / prototype.a[0])
        damping = prototype.a[1] / prototype.a[0] / natural
        a1, a2 = _impulse_invariant_poles(w_unit * natural, damping)
    grid_hz = _fit_grid_hz(prototype, sample_rate_hz)
    phi = _phi(2.0 * np.pi * grid_hz / sample_rate_hz)
    target = np.abs(analog.response([prototype], grid_hz)) ** 2
    weight = 1.0 / (target * (_squared_magnitude_terms(1.0, a1, a2) @ phi))
    at_dc = (prototype.b[2] / prototype.a[2] * (1.0 + a1 + a2)) ** 2
    fitted = _least_squares((phi[1:] * weight).T, np.ones_like(weight) - at_dc * phi[0] * weight)
    b0, b1, b2 = _minimum_phase(at_dc, fitted[0], fitted[1])
    return Biquad(b0, b1, b2, a1, a2)


def _fit_grid_hz(prototype: AnalogSection, sample_rate_hz: float) -> Array:
    """Return where a fit looks: even in octaves below hz, even in Hz above it, up to 20 kHz or half the rate."""
    top = min(FIT_HIGHEST_HZ, 0.4999 * sample_rate_hz)
    low = np.geomspace(FIT_LOWEST_HZ, min(prototype.hz, top), FIT_POINTS // 2, endpoint=False)
    return np.concatenate([low, np.geomspace(min(prototype.hz, 0.9 * top), top, FIT_POINTS // 2)])


def _least_squares(matrix: Array, wanted: Array) -> Array:
    """Solve for two unknowns by the normal equations, written out so that results never hang on a library."""
    m00, m01, m11 = (float(matrix[:, i] @ matrix[:, j]) for i, j in ((0, 0), (0, 1), (1, 1)))
    y0, y1 = float(matrix[:, 0] @ wanted), float(matrix[:, 1] @ wanted)
    det = m00 * m11 - m01 * m01
    return np.array([(y0 * m11 - y1 * m01) / det, (y1 * m00 - y0 * m01) / det])


def _impulse_invariant_poles(w0: float, damping: float) -> tuple[float, float]:
    """Return (a1, a2) of the poles of s² + damping·s + 1 at the digital frequency w0."""
    half = damping / 2.0
    decay = np.exp(-half * w0)
    if half <= 1.0:
        a1 = -2.0 * decay * np.cos(np.sqrt(1.0 - half * half) * w0)
    else:
        root = np.sqrt(half * half - 1.0) * w0
        a1 = -(np.exp(root - half * w0) + np.exp(-root - half * w0))
    return float(a1), float(decay * decay)


def _phi(w: Array) -> Array:
    """Return the (3, bins) basis in which a squared magnitude is linear."""
    sin2 = np.sin(w / 2.0) ** 2
    return np.stack([1.0 - sin2, sin2, 4.0 * (1.0 - sin2) * sin2])


def _squared_magnitude_terms(c0: float, c1: float, c2: float) -> Array:
    """Return the (3,) coordinates of |c0 + c1·z⁻¹ + c2·z⁻²|² in the basis of `_phi`."""
    return np.array([(c0 + c1 + c2) ** 2, (c0 - c1 + c2) ** 2, -4.0 * c0 * c2])


def _minimum_phase(b_0: float, b_1: float, b_2: float) -> tuple[float, float, float]:
    """Return the minimum-phase polynomial with these coordinates; what no polynomial has is clipped to the nearest."""
    root_0, root_1 = np.sqrt(max(b_0, 0.0)), np.sqrt(max(b_1, 0.0))
    w = (root_0 + root_1) / 2.0
    c0 = (w + np.sqrt(max(w * w + b_2, 0.0))) / 2.0
    return float(c0), float((root_0 - root_1) / 2.0), float(-b_2 / (4.0 * c0))
