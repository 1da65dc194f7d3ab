"""The loop that tells how strong the overtone series on each place is, and how well each place fits into one."""

from numba import njit

__all__ = ["sum_series"]


@njit(cache=True, nogil=True)
def sum_series(lines, offsets, weights, salience, explained):
    """Fill salience and explained (frames, bands) from the heights of lines (frames, bands), all float32.

    offsets, weights (overtones,): how many bands each overtone lies above its root, and what it counts. explained: the
    strongest series that a band is part of, itself left out.
    """
    n_frames, n = lines.shape
    for frame in range(n_frames):
        row, strong, best = lines[frame], salience[frame], explained[frame]
        strong[:] = 0.0
        best[:] = 0.0
        for k in range(len(offsets)):
            offset, weight = offsets[k], weights[k]
            above = row[offset:]
            for at in range(n - offset):
                strong[at] += weight * above[at]
        for k in range(len(offsets)):
            offset, weight = offsets[k], weights[k]
            above, into = row[offset:], best[offset:]
            for at in range(n - offset):
                into[at] = max(into[at], strong[at] - weight * above[at])
