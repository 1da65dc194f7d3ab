"""The loop that sums the powers of a spectrum's bins into overlapping bands."""

from numba import njit

__all__ = ["add_band_power"]


@njit(cache=True, nogil=True, fastmath=True)
def add_band_power(spectra, first_bin, bands, weights, out):
    """Add each bin's power to two neighbouring bands.

    spectra (frames, bins) complex; bands (n,): the lower band of each of n bins from first_bin on, -1: only the upper
    one weights (n, 2): for the lower and the upper band; out (frames, bands): added to
    """
    n_bands = out.shape[1]
    for frame in range(spectra.shape[0]):
        for at in range(len(bands)):
            z = spectra[frame, first_bin + at]
            power = z.real * z.real + z.imag * z.imag
            band = bands[at]
            if band >= 0:
                out[frame, band] += weights[at, 0] * power
            if band + 1 < n_bands:
                out[frame, band + 1] += weights[at, 1] * power
