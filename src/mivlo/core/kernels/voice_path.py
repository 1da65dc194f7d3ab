"""The loop that finds the likeliest way of a pitch through candidates."""

import numpy as np
from numba import njit

__all__ = ["likeliest"]


@njit(cache=True, nogil=True)
def likeliest(octaves, strength, jump, turn):
    """Return (frames,) which candidate each frame most likely has, on the way with the most strength in all.

    octaves, strength (frames, candidates) float64: log2 of each candidate's frequency, and how strong it is; the last
    candidate is silence. jump: what an octave from one frame to the next costs; turn: what beginning or ending does.
    """
    n_frames, n = strength.shape
    total, back = strength[0].copy(), np.zeros((n_frames, n), dtype=np.int8)
    best = np.empty(n)
    for t in range(1, n_frames):
        for c in range(n):
            best[c] = -1e30
            for b in range(n):
                if b == n - 1 and c == n - 1:
                    cost = 0.0
                elif b == n - 1 or c == n - 1:
                    cost = turn
                else:
                    cost = jump * abs(octaves[t, c] - octaves[t - 1, b])
                if total[b] - cost > best[c]:
                    best[c] = total[b] - cost
                    back[t, c] = b
        for c in range(n):
            total[c] = best[c] + strength[t, c]
    path = np.empty(n_frames, dtype=np.int64)
    path[n_frames - 1] = np.argmax(total)
    for t in range(n_frames - 1, 0, -1):
        path[t - 1] = back[t, path[t]]
    return path
