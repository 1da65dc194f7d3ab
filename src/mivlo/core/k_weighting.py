"""The K weighting of ITU-R BS.1770-4 and its scale, for meters and measurements alike."""

import numpy as np

from mivlo.core.filters.biquad import Biquad, frequency_response
from mivlo.core.units import Array, power_to_db

__all__ = ["BLOCK_S", "OFFSET_LU", "k_weighting", "k_weighting_power", "power_to_lufs"]

# The analogue figures from which BS.1770-4's tables for 48 kHz follow to 1e-15 (references: bs1770.json).
SHELF_HZ, SHELF_GAIN_DB = 1681.974450955533, 3.999843853973347
SHELF_Q, SHELF_MID_EXPONENT = 0.7071752369554196, 0.4996667741545416
HIGH_PASS_HZ, HIGH_PASS_Q = 38.13547087602444, 0.5003270373238773
BLOCK_S = 0.4  # of a momentary loudness
OFFSET_LU = -0.691


def k_weighting(sample_rate_hz: float) -> Array:
    """Return the K weighting as (2, 6) second-order sections, re-derived for any rate."""
    k = np.tan(np.pi * SHELF_HZ / sample_rate_hz)
    high = 10.0 ** (SHELF_GAIN_DB / 20.0)
    mid = high**SHELF_MID_EXPONENT
    a0 = 1.0 + k / SHELF_Q + k * k
    shelf = [
        (high + mid * k / SHELF_Q + k * k) / a0, 2.0 * (k * k - high) / a0, (high - mid * k / SHELF_Q + k * k) / a0,
        1.0, 2.0 * (k * k - 1.0) / a0, (1.0 - k / SHELF_Q + k * k) / a0,
    ]  # fmt: skip
    k = np.tan(np.pi * HIGH_PASS_HZ / sample_rate_hz)
    a0 = 1.0 + k / HIGH_PASS_Q + k * k
    high_pass = [1.0, -2.0, 1.0, 1.0, 2.0 * (k * k - 1.0) / a0, (1.0 - k / HIGH_PASS_Q + k * k) / a0]
    return np.array([shelf, high_pass])


def k_weighting_power(hz: Array, sample_rate_hz: float) -> Array:
    """Return (bins,) by what power the K weighting multiplies at (bins,) frequencies. Source: as `k_weighting`."""
    sections = [Biquad(b0, b1, b2, a1, a2) for b0, b1, b2, _, a1, a2 in k_weighting(sample_rate_hz).tolist()]
    return np.abs(frequency_response(sections, hz, sample_rate_hz=sample_rate_hz)) ** 2


def power_to_lufs(power: Array) -> Array:
    """Return the loudness of K-weighted powers that are summed over the channels."""
    return power_to_db(power) + OFFSET_LU
