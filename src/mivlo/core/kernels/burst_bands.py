"""The loop that sums a spectrum's powers in two bands, and tells where the middle of the upper one lies."""

import numpy as np
from numba import njit

__all__ = ["band_powers"]


@njit(cache=True, nogil=True)
def band_powers(spectra, full, hz, middle, high, out, moment):
    """Fill out (2, frames) float32 with the power of two bands (first bin, bin behind the last), and moment (frames,)
    with the powers of the upper one, each times its frequency.

    spectra (frames, bins) complex64; full: the power that counts as 1, float32; hz (bins,)
    """
    for frame in range(len(spectra)):
        bins = spectra[frame]
        low_sum, high_sum, turned = np.float32(0.0), np.float32(0.0), 0.0
        for at in range(middle[0], middle[1]):
            z = bins[at]
            low_sum += (z.real * z.real + z.imag * z.imag) / full
        for at in range(high[0], high[1]):
            z = bins[at]
            power = (z.real * z.real + z.imag * z.imag) / full
            high_sum += power
            turned += power * hz[at]
        out[0, frame], out[1, frame], moment[frame] = low_sum, high_sum, turned
