"""The loop that halves a rate through a half-band filter."""

import numpy as np
from numba import njit

__all__ = ["halve"]

_AT_ONCE = 2_048  # summed at a time, so that they stay in the nearest cache


@njit(cache=True, nogil=True)
def halve(pairs, taps, out):
    """Fill out (channels, n) with pairs (channels, n, 2) of samples at half their rate, all float32; beyond them there
    is silence.

    taps (reach,): every other tap behind the middle one, which is a half; those between are 0.
    """
    n, reach = out.shape[1], len(taps)
    odd = np.empty(_AT_ONCE + 2 * reach, dtype=np.float32)
    for channel in range(len(pairs)):
        odd[:reach] = 0.0
        for first in range(0, n, _AT_ONCE):
            count = min(_AT_ONCE, n - first)
            here, total = pairs[channel, first : first + count], out[channel, first : first + count]
            middle = odd[reach:]
            for i in range(count):
                total[i] = np.float32(0.5) * here[i, 0]
                middle[i] = here[i, 1]
            for i in range(first + count, first + count + reach):
                middle[i - first] = pairs[channel, i, 1] if i < n else np.float32(0.0)
            for j in range(reach):
                tap, later, earlier = taps[j], odd[reach + j :], odd[reach - 1 - j :]
                for i in range(count):
                    total[i] += tap * (later[i] + earlier[i])
            odd[:reach] = odd[count : count + reach].copy()
