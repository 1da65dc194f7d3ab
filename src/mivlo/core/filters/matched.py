"""Digital sections whose magnitudes follow the analogue shapes up to 20 kHz.

Plain bilinear designs squeeze everything towards half the sampling rate. Here a shape's poles and zeros are first
carried over as they are (z = exp(s·T), the matched z-transform), which puts every resonance where it belongs.
What is left is smooth; one more section, fitted to it, takes it away. |H|² of a section is (B·φ)/(A·φ) with
φ = (cos²(w/2), sin²(w/2), sin²(w)) (after M. Vicanek, "Matched Second Order Digital Filters", 2016, from memory),
so the fit works on squared magnitudes, and its result has a minimum-phase section by construction. Bells whose
closed form by Vicanek is near enough take that: one section instead of two. Cuts in gain are the exact inverses of
the boosts.
"""

from collections.abc import Sequence

import numpy as np

from mivlo.core.filters import analog
from mivlo.core.filters.analog import AnalogSection
from mivlo.core.filters.biquad import Biquad, frequency_response
from mivlo.core.units import Array

__all__ = [
    "bell", "cut_sections", "flat_bell", "high_shelf", "low_shelf", "notch", "plain_bell", "plain_cut", "plain_shelf",
]  # fmt: skip

FIT_LOWEST_HZ = 20.0
FIT_HIGHEST_HZ = 20_000.0  # the range in which the shapes are promised
NEAR_ENOUGH_DB = 0.05
LOWEST_LEVEL_DB = -45.0  # errors count down to -40 dB
# Below this part of the rate the bilinear design is within 0.2 dB at any Q, and the matched ones lose digits to
# cancellation (a 50 Hz notch of Q 30 at 96 kHz would miss by decibels).
BILINEAR_BELOW = 1.0 / 480.0
HIGHEST_MAPPED = 0.495  # of the rate: resonances above it lie beyond half the rate and are left to the fit
BEYOND_WEIGHT = 0.01  # of the fit above 20 kHz: enough to keep it tame there
FIT_ROUNDS = 24
STIFFENING = 6.0
LONGEST_STEP = 1.5  # in the logarithms that are fitted
DB_PER_LOG_POWER = 10.0 / np.log(10.0)


def bell(hz: float, gain_db: float, q: float, *, sample_rate_hz: float) -> tuple[Biquad, ...]:
    """Return the digital bell (arguments and shape as `analog.bell`), one or two sections."""
    if gain_db < 0.0:
        return _inverse(bell(hz, -gain_db, q, sample_rate_hz=sample_rate_hz))
    prototype = (analog.bell(hz, gain_db, q),)
    plain = (plain_bell(hz, gain_db, q, sample_rate_hz=sample_rate_hz),)
    if hz < BILINEAR_BELOW * sample_rate_hz or _error_db(prototype, plain, sample_rate_hz) < NEAR_ENOUGH_DB:
        return plain
    return _corrected(prototype, (_mapped(prototype[0], sample_rate_hz),), sample_rate_hz)


def plain_bell(hz: float, gain_db: float, q: float, *, sample_rate_hz: float) -> Biquad:
    """Return the closed form of one section: exact at its centre, within 1.4 dB at 44.1 kHz where widest and
    highest."""
    if gain_db < 0.0:
        return plain_bell(hz, -gain_db, q, sample_rate_hz=sample_rate_hz).inverse()
    if gain_db == 0.0:
        return Biquad(1.0, 0.0, 0.0, 0.0, 0.0)
    if hz < BILINEAR_BELOW * sample_rate_hz:
        return _bilinear(analog.bell(hz, gain_db, q), sample_rate_hz)
    w0 = 2.0 * np.pi * hz / sample_rate_hz
    a1, a2 = _matched_quadratic(w0, 1.0 / (10.0 ** (gain_db / 40.0) * q))
    big_a = _squared_magnitude_terms(1.0, a1, a2)
    phi = _phi(np.array([w0]))[:, 0]
    top = 10.0 ** (gain_db / 10.0)
    value = top * float(big_a @ phi)
    slope = top * float(-big_a[0] + big_a[1] + 4.0 * (phi[0] - phi[1]) * big_a[2])
    b_2 = (value - slope * phi[1] - big_a[0]) / (4.0 * phi[1] ** 2)
    b_1 = slope + big_a[0] + 4.0 * (phi[1] - phi[0]) * b_2
    b0, b1, b2 = _minimum_phase(big_a[0], b_1, b_2)
    return Biquad(b0, b1, b2, a1, a2)


def flat_bell(hz: float, gain_db: float, q: float, *, sample_rate_hz: float) -> tuple[Biquad, ...]:
    """Return the digital bell of twice the order (arguments and shape as `analog.flat_bell`), two or three sections."""
    if gain_db < 0.0:
        return _inverse(flat_bell(hz, -gain_db, q, sample_rate_hz=sample_rate_hz))
    return _carried_over(analog.flat_bell(hz, gain_db, q), sample_rate_hz)


def low_shelf(hz: float, gain_db: float, q: float, *, sample_rate_hz: float) -> tuple[Biquad, ...]:
    """Return the digital low shelf (arguments and shape as `analog.low_shelf`), one or two sections."""
    if gain_db < 0.0:
        return _inverse(low_shelf(hz, -gain_db, q, sample_rate_hz=sample_rate_hz))
    return _carried_over((analog.low_shelf(hz, gain_db, q),), sample_rate_hz)


def high_shelf(hz: float, gain_db: float, q: float, *, sample_rate_hz: float) -> tuple[Biquad, ...]:
    """Return the digital high shelf (arguments and shape as `analog.high_shelf`), one or two sections."""
    if gain_db < 0.0:
        return _inverse(high_shelf(hz, -gain_db, q, sample_rate_hz=sample_rate_hz))
    return _carried_over((analog.high_shelf(hz, gain_db, q),), sample_rate_hz)


def notch(hz: float, q: float, *, sample_rate_hz: float) -> tuple[Biquad, ...]:
    """Return the digital notch, one or two sections: its zero lies exactly at hz."""
    return _carried_over((analog.notch(hz, q),), sample_rate_hz)


def cut_sections(hz: float, order: int, q: float, *, high_pass: bool, sample_rate_hz: float) -> tuple[Biquad, ...]:
    """Return a Butterworth low cut (high_pass) or high cut as digital sections of first and second order."""
    prototypes = analog.butterworth(hz, order, high_pass=high_pass, q=q)
    if not high_pass:
        return _carried_over(prototypes, sample_rate_hz)
    sections = tuple(_high_pass(prototype, sample_rate_hz) for prototype in prototypes)
    if _error_db(prototypes, sections, sample_rate_hz) < NEAR_ENOUGH_DB or hz < BILINEAR_BELOW * sample_rate_hz:
        return sections
    return _corrected(prototypes, sections, sample_rate_hz)


def plain_shelf(prototype: AnalogSection, *, sample_rate_hz: float) -> Biquad:
    """Return one section for a shelf whose gain moves: exact at 0 Hz and at its frequency, squeezed towards half the
    rate."""
    return _bilinear(prototype, sample_rate_hz)


def plain_cut(hz: float, order: int, *, high_pass: bool, sample_rate_hz: float) -> tuple[Biquad, ...]:
    """Return a Butterworth cut of even order, one section for every two: exact at its frequency."""
    prototypes = analog.butterworth(hz, order, high_pass=high_pass, q=0.5**0.5)
    return tuple(_bilinear(prototype, sample_rate_hz) for prototype in prototypes)


def _inverse(sections: tuple[Biquad, ...]) -> tuple[Biquad, ...]:
    return tuple(section.inverse() for section in sections)


def _carried_over(prototypes: tuple[AnalogSection, ...], sample_rate_hz: float) -> tuple[Biquad, ...]:
    """Return a section for each prototype, and one more where these alone are not near enough."""
    if prototypes[0].hz < BILINEAR_BELOW * sample_rate_hz and prototypes[-1].a[0]:
        return tuple((_bilinear if prototype.a[0] else _mapped)(prototype, sample_rate_hz) for prototype in prototypes)
    mapped = tuple(_mapped(prototype, sample_rate_hz) for prototype in prototypes)
    if _error_db(prototypes, mapped, sample_rate_hz) < NEAR_ENOUGH_DB:
        return mapped
    return _corrected(prototypes, mapped, sample_rate_hz)


def _bilinear(prototype: AnalogSection, sample_rate_hz: float) -> Biquad:
    """Bilinear transform, warped so that hz is exact (Audio EQ Cookbook, R. Bristow-Johnson; W3C Note 2021)."""
    t = np.tan(np.pi * prototype.hz / sample_rate_hz)

    def transformed(c: tuple[float, float, float]) -> tuple[float, float, float]:
        s2, s1, s0 = c[0], c[1] * t, c[2] * t * t
        return s2 + s1 + s0, 2.0 * (s0 - s2), s2 - s1 + s0

    b, a = transformed(prototype.b), transformed(prototype.a)
    return Biquad(*(float(value / a[0]) for value in (*b, *a[1:])))


def _mapped(prototype: AnalogSection, sample_rate_hz: float) -> Biquad:
    """Matched z-transform of poles and zeros, exact at 0 Hz."""
    b1, b2 = _map_roots(prototype.b, prototype.hz, sample_rate_hz)
    a1, a2 = _map_roots(prototype.a, prototype.hz, sample_rate_hz)
    gain = prototype.b[2] / prototype.a[2] * (1.0 + a1 + a2) / (1.0 + b1 + b2)
    return Biquad(gain, gain * b1, gain * b2, a1, a2)


def _map_roots(c: tuple[float, float, float], hz: float, sample_rate_hz: float) -> tuple[float, float]:
    """Return the digital polynomial 1 + c1·z⁻¹ + c2·z⁻² of an analogue one in falling powers of s, 1 where it has no
    root."""
    w_unit = 2.0 * np.pi * hz / sample_rate_hz
    if c[0] == 0.0:
        return (0.0, 0.0) if c[1] == 0.0 else (-float(np.exp(-w_unit * c[2] / c[1])), 0.0)
    natural = np.sqrt(c[2] / c[0])
    if natural * hz >= HIGHEST_MAPPED * sample_rate_hz:
        return 0.0, 0.0
    return _matched_quadratic(w_unit * natural, c[1] / c[0] / natural)


def _high_pass(prototype: AnalogSection, sample_rate_hz: float) -> Biquad:
    """Zeros at 0 Hz, poles and gain for the analogue magnitude."""
    w0 = 2.0 * np.pi * prototype.hz / sample_rate_hz
    if prototype.a[0] == 0.0:
        pole, gain = _first_order_high_pass(w0)
        return Biquad(gain, -gain, 0.0, -pole, 0.0)
    a1, a2 = _matched_quadratic(w0, prototype.a[1])
    phi = _phi(np.array([w0]))[:, 0]
    peak = 1.0 / prototype.a[1]
    b0 = peak * np.sqrt(_squared_magnitude_terms(1.0, a1, a2) @ phi) / (4.0 * phi[1])
    return Biquad(float(b0), float(-2.0 * b0), float(b0), a1, a2)


def _first_order_high_pass(w0: float) -> tuple[float, float]:
    """Return pole p and gain g of g·(1 - z⁻¹)/(1 - p·z⁻¹), -3.01 dB at w0."""
    pole = float(np.exp(-w0))
    at_w0 = abs((1.0 - np.exp(-1j * w0)) / (1.0 - pole * np.exp(-1j * w0)))
    return pole, float(np.sqrt(0.5) / at_w0)


def _corrected(
    prototypes: Sequence[AnalogSection], sections: tuple[Biquad, ...], sample_rate_hz: float
) -> tuple[Biquad, ...]:
    """Return sections and one more that takes away what they miss of the prototypes, its highest error made small.

    Levenberg-Marquardt on the logarithm of the squared magnitude; errors that stay large gain weight (C. L. Lawson,
    1961, from memory), which drives the highest one down.
    """
    hz, promised = _fit_grid_hz(prototypes[0].hz, sample_rate_hz)
    phi = _phi(2.0 * np.pi * hz / sample_rate_hz)
    wanted = _level_log(prototypes, hz)
    missing = wanted - np.log(np.abs(frequency_response(sections, hz, sample_rate_hz=sample_rate_hz)) ** 2 + 1e-30)
    promised = promised & (wanted > LOWEST_LEVEL_DB / DB_PER_LOG_POWER)
    weight = np.where(promised, 1.0, BEYOND_WEIGHT)
    figures, damping = np.zeros(4), 1e-3
    error, slopes, correction = _correction_error(figures, phi, missing)
    best, best_error = correction, np.inf
    for step in range(FIT_ROUNDS):
        highest = float(np.max(np.abs(error[promised])))
        if highest < best_error:
            best, best_error = correction, highest
        if highest * DB_PER_LOG_POWER < NEAR_ENOUGH_DB / 2.0:
            break
        if step > 3:
            weight = weight * np.where(promised, np.abs(error) / highest + 0.15, 1.0)
            weight[~promised] = 0.3 * BEYOND_WEIGHT * float(np.mean(weight[promised]))
        weighted = slopes * weight[:, None]
        curvature, downhill = weighted.T @ slopes, weighted.T @ error
        for _ in range(5):
            stiff = curvature + damping * np.diag(np.diag(curvature) + 1e-9)
            trial = figures + np.clip(-np.linalg.solve(stiff, downhill), -LONGEST_STEP, LONGEST_STEP)
            trial_error, trial_slopes, trial_correction = _correction_error(trial, phi, missing)
            if np.sum(weight * trial_error**2) <= np.sum(weight * error**2) * 1.0001:
                damping = max(damping / 4.0, 1e-7)
                figures, error, slopes, correction = trial, trial_error, trial_slopes, trial_correction
                break
            damping *= STIFFENING
        else:
            break
    numerator, denominator = _minimum_phase(*best[0]), _minimum_phase(*best[1])
    return (*sections, Biquad(*(value / denominator[0] for value in (*numerator, *denominator[1:]))))


def _correction_error(figures: Array, phi: Array, missing: Array) -> tuple[Array, Array, tuple[Array, Array]]:
    """Return the error of a correction in log power, its slopes (bins, 4), and its two polynomials in φ."""
    top, top_slope_1, top_slope_2 = _positive_polynomial(figures[:2])
    bottom, bottom_slope_1, bottom_slope_2 = _positive_polynomial(figures[2:])
    above, below = top @ phi, bottom @ phi
    slopes = np.stack(
        [
            top_slope_1 @ phi / above,
            top_slope_2 @ phi / above,
            -(bottom_slope_1 @ phi) / below,
            -(bottom_slope_2 @ phi) / below,
        ],
        axis=1,
    )
    return np.log(above / below) - missing, slopes, (top, bottom)


def _positive_polynomial(figures: Array) -> tuple[Array, Array, Array]:
    """Return coordinates in φ, 1 at 0 Hz and above 0 everywhere, of two free figures; and their slopes."""
    at_nyquist, rest = np.exp(figures[0]), np.exp(figures[1])
    root = np.exp(figures[0] / 2.0)
    value = np.array([1.0, at_nyquist, rest - (1.0 + root) ** 2 / 4.0])
    return value, np.array([0.0, at_nyquist, -(1.0 + root) * root / 4.0]), np.array([0.0, 0.0, rest])


def _error_db(prototypes: Sequence[AnalogSection], sections: Sequence[Biquad], sample_rate_hz: float) -> float:
    """Return the highest error where shapes are promised."""
    hz, promised = _fit_grid_hz(prototypes[0].hz, sample_rate_hz)
    hz = hz[promised]
    wanted = _level_log(prototypes, hz)
    got = np.log(np.abs(frequency_response(sections, hz, sample_rate_hz=sample_rate_hz)) ** 2 + 1e-30)
    heard = wanted > LOWEST_LEVEL_DB / DB_PER_LOG_POWER
    return float(DB_PER_LOG_POWER * np.max(np.abs(got - wanted)[heard], initial=0.0))


def _level_log(prototypes: Sequence[AnalogSection], hz: Array) -> Array:
    return np.asarray(np.log(np.abs(analog.response(prototypes, hz)) ** 2 + 1e-30))


def _fit_grid_hz(hz: float, sample_rate_hz: float) -> tuple[Array, np.ndarray]:
    """Return where a fit looks, dense around hz and towards the top, and which of it is promised."""
    top, half = min(FIT_HIGHEST_HZ, 0.4999 * sample_rate_hz), 0.4999 * sample_rate_hz
    centre = min(max(hz, 100.0), top)
    grid = np.concatenate(
        [
            np.geomspace(FIT_LOWEST_HZ, centre, 30),
            centre * 2.0 ** np.linspace(-0.7, 0.7, 41),
            np.linspace(0.3 * top, top, 70),
            np.linspace(top, half, 12),
        ]
    )
    grid = np.sort(grid[(grid >= FIT_LOWEST_HZ) & (grid <= half)])
    return grid, grid <= top


def _matched_quadratic(w0: float, damping: float) -> tuple[float, float]:
    """Return (c1, c2) of 1 + c1·z⁻¹ + c2·z⁻² with the roots of s² + damping·s + 1 at the digital frequency w0."""
    half = damping / 2.0
    decay = np.exp(-half * w0)
    if half <= 1.0:
        c1 = -2.0 * decay * np.cos(np.sqrt(1.0 - half * half) * w0)
    else:
        root = np.sqrt(half * half - 1.0) * w0
        c1 = -(np.exp(root - half * w0) + np.exp(-root - half * w0))
    return float(c1), float(decay * decay)


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
