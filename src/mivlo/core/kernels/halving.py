"""The loop that halves the rate of a signal."""

import numpy as np
from numba import njit

__all__ = ["halved"]

BLOCK = 2_048  # so that what is summed stays in the nearest cache


@njit(cache=True, nogil=True, fastmath={"contract"})
def halved(row, taps, out):
    """Write every second frame of a half-band filter's output: out (n,) float32 from row (2·n,) float32.

    taps (k,) float32: the filter's taps at distances 1, 3, 5 ...; its middle is one half, the others are zero.
    Frame i of the output lies on frame 2·i of the input; beyond the ends there is silence.
    """
    n, reach = out.shape[0], taps.shape[0]
    odd = np.zeros(n + 2 * reach, dtype=np.float32)
    for i in range(n):
        odd[reach + i] = row[2 * i + 1]
        out[i] = np.float32(0.5) * row[2 * i]
    for first in range(0, n, BLOCK):
        last = min(first + BLOCK, n)
        part = out[first:last]
        for j in range(reach):
            after, before = odd[reach + first + j : reach + last + j], odd[reach + first - 1 - j : reach + last - 1 - j]
            tap = taps[j]
            for i in range(last - first):
                part[i] += tap * (after[i] + before[i])
