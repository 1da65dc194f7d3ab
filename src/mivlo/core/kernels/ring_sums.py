"""The loop that sums what lies around every place of a row."""

import numpy as np
from numba import njit

__all__ = ["ring_sums"]


@njit(cache=True, nogil=True)
def ring_sums(x, reach, gap, out):
    """Fill out (rows, n) with the sums over 2·reach + 1 values of x (rows, n) less those over 2·gap + 1, float32; fewer
    at the edges."""
    n = x.shape[1]
    sums = np.empty(n + 1)
    sums[0] = 0.0
    for row in range(len(x)):
        for at in range(n):
            sums[at + 1] = sums[at] + x[row, at]
        for at in range(n):
            wide = sums[min(at + reach + 1, n)] - sums[max(at - reach, 0)]
            out[row, at] = wide - (sums[min(at + gap + 1, n)] - sums[max(at - gap, 0)])
