"""The loop that takes the strongest of a spectrum's bins in each band."""

import numpy as np
from numba import njit

__all__ = ["add_band_peaks"]


@njit(cache=True, nogil=True)
def add_band_peaks(spectra, scale, edges, bands, out):
    """Add to each band the greatest power of its bins.

    spectra (frames, bins) complex64; scale: of powers, float32; edges (n + 1,): band `bands[k]` has the bins from
    edges[k] to before edges[k + 1]; out (frames, all bands) float32: added to
    """
    for frame in range(len(spectra)):
        bins, row = spectra[frame], out[frame]
        for k in range(len(bands)):
            most = np.float32(0.0)
            for at in range(edges[k], edges[k + 1]):
                z = bins[at]
                most = max(most, z.real * z.real + z.imag * z.imag)
            row[bands[k]] += scale * most
