"""The loop that follows a level down from each of its tops."""

import numpy as np
from numba import njit

__all__ = ["lowest_after"]


@njit(cache=True, nogil=True)
def lowest_after(level, tops, most_up):
    """Return (decays, 2) int64: each top that a decay starts from, and where it is lowest before it rises again.

    A decay ends where the level (frames,) stands more than `most_up` over the lowest that it has reached; tops (frames
    in which it is a maximum) that lie before that end start none.
    """
    found = np.empty((len(tops), 2), dtype=np.int64)
    n, at = 0, 0
    for peak in tops:
        if peak < at:
            continue
        at = peak
        for place in range(peak + 1, len(level)):
            if level[place] > level[at] + most_up:
                break
            if level[place] < level[at]:
                at = place
        found[n, 0], found[n, 1] = peak, at
        n += 1
    return found[:n]
