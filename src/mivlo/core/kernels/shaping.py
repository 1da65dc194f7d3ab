"""The loops of what bends the sound: half-band filters that double the rate and halve it, a soft clipper, harmonics."""

import numpy as np
from numba import njit

__all__ = ["clip", "convolved", "doubled", "halved", "harmonics"]

INAUDIBLE = 1e-40
CHUNK = 256
# tanh z = z·P(z²)/Q(z²): J. H. Lambert's continued fraction (1761), twelve levels deep; nothing but products, sums and
# one quotient, so that several frames are computed at once. Within 4e-8 up to FLAT, and from there on held.
FLAT = 9.0
P = (
    1.0,
    0.14666666666666667,
    0.0052173913043478265,
    6.625258799171843e-05,
    3.2286836253274086e-07,
    5.179706350792634e-10,
    1.264885555749117e-13,
)
Q = (
    1.0,
    0.48,
    0.03188405797101449,
    0.0006625258799171842,
    5.230467473030402e-06,
    1.5193805295658393e-08,
    1.1510458557316966e-11,
)
FLOOR = 1e-6  # the level of a band below which harmonics fade away with it


@njit(cache=True, nogil=True, error_model="numpy")
def doubled(x, past, taps, y):
    """Fill y (2·n,) with x (n,) at twice the rate.

    taps (m,): every second one of a half-band filter, whose middle is a half; past (m - 1,) is updated.
    """
    n, m = x.shape[0], taps.shape[0]
    whole = np.empty(n + m - 1)
    whole[: m - 1] = past
    whole[m - 1 :] = x
    past[:] = whole[n:]
    late = m - m // 2  # half of the taps but one: the middle one
    sums = np.empty(CHUNK)
    for start in range(0, n, CHUNK):
        count = min(CHUNK, n - start)
        sums[:count] = 0.0
        # One tap after the other over a few frames: every sum is made in one order, however the blocks are cut.
        for j in range(m):
            weight, part = 2.0 * taps[j], whole[start + m - 1 - j : start + m - 1 - j + count]
            for i in range(count):
                sums[i] += weight * part[i]
        for i in range(count):
            y[2 * (start + i)] = sums[i]
            y[2 * (start + i) + 1] = whole[late + start + i]


@njit(cache=True, nogil=True, error_model="numpy")
def halved(y, past, taps, x):
    """Fill x (n,) with y (2·n,) at half the rate; past (2·(m - 1) + 1,) is updated; taps as for `doubled`."""
    n, m = x.shape[0], taps.shape[0]
    kept = past.shape[0]
    even, odd = np.empty(n + m - 1), np.empty(n + m)
    whole = np.empty(2 * n + kept)
    whole[:kept] = past
    whole[kept:] = y
    past[:] = whole[2 * n :]
    # Frames of which one is there for each that comes out, and those between.
    for i in range(n + m - 1):
        odd[i], even[i] = whole[2 * i], whole[2 * i + 1]
    sums = np.empty(CHUNK)
    late = m // 2
    for start in range(0, n, CHUNK):
        count = min(CHUNK, n - start)
        between = odd[start + late : start + late + count]
        for i in range(count):
            sums[i] = 0.5 * between[i]
        for j in range(m):
            weight, part = taps[j], even[start + m - 1 - j : start + m - 1 - j + count]
            for i in range(count):
                sums[i] += weight * part[i]
        x[start : start + count] = sums[:count]


@njit(cache=True, nogil=True, error_model="numpy", inline="always")
def _tanh(z):
    z = min(max(z, -FLAT), FLAT)
    t = z * z
    above = P[0] + t * (P[1] + t * (P[2] + t * (P[3] + t * (P[4] + t * (P[5] + t * P[6])))))
    below = Q[0] + t * (Q[1] + t * (Q[2] + t * (Q[3] + t * (Q[4] + t * (Q[5] + t * Q[6])))))
    return z * above / below


@njit(cache=True, nogil=True, error_model="numpy")
def clip(y, gain, ceiling, more_gain, more_ceiling, step):
    """Bend y (n,) in place: ceiling·tanh(gain·y / ceiling); both go on by their slopes every `step` frames."""
    for j in range(y.shape[0] // step):
        scale = gain[j] / ceiling[j]
        slope = (more_gain[j] / more_ceiling[j] - gain[j] / ceiling[j]) / step
        top, rise = ceiling[j], (more_ceiling[j] - ceiling[j]) / step
        part = y[j * step : (j + 1) * step]
        for i in range(step):
            part[i] = (top + rise * i) * _tanh((scale + slope * i) * part[i])


@njit(cache=True, nogil=True, error_model="numpy")
def harmonics(x, power, pole, even, odd, mean, first, y):
    """Fill y (n,) with harmonics of a band x (n,), as loud beside it whatever its level.

    power (1,): the band's mean square, which is updated; pole of its smoothing; even, odd: how much of each; mean,
    first: what u·tanh(u) has of a constant and tanh(u) of u itself, for a sine u of peak 1.
    """
    now = power[0]
    for i in range(x.shape[0]):
        now += pole * (x[i] * x[i] - now)
        if now < INAUDIBLE:
            now = 0.0
        level = max(np.sqrt(2.0 * now), FLOOR)
        u = x[i] / level
        bent = _tanh(u)
        y[i] = level * (even * (u * bent - mean) + odd * (first * u - bent))
    power[0] = now


@njit(cache=True, nogil=True, error_model="numpy")
def convolved(x, past, taps):
    """Convolve x (n,) with taps (m,) in place; past (m - 1,) is updated."""
    n, m = x.shape[0], taps.shape[0]
    whole = np.empty(n + m - 1)
    whole[: m - 1] = past
    whole[m - 1 :] = x
    past[:] = whole[n:]
    sums = np.empty(CHUNK)
    for start in range(0, n, CHUNK):
        count = min(CHUNK, n - start)
        sums[:count] = 0.0
        for j in range(m):
            weight, part = taps[j], whole[start + m - 1 - j : start + m - 1 - j + count]
            for i in range(count):
                sums[i] += weight * part[i]
        x[start : start + count] = sums[:count]
