"""The ear: frequency scale, thresholds, excitation, and loudness alone and in the presence of other sounds.

Source: B. C. J. Moore, B. R. Glasberg, T. Baer, "A model for the prediction of thresholds, loudness, and partial
loudness", JAES 45(4), 1997, with the constants of ANSI S3.4-2007; B. R. Glasberg, B. C. J. Moore, "Derivation of
auditory filter shapes from notched-noise data", Hearing Research 47, 1990. All tables and formulas from memory; what
they must give
is held by tests/core/test_hearing.py (absolute threshold, sones, masked thresholds, upward spread).
"""

import numpy as np

from mivlo.core.units import Array, Floats

__all__ = [
    "ALPHA",
    "CAMS",
    "CENTRES_HZ",
    "E_THRESHOLD",
    "LOW_GAIN",
    "MASKING_K",
    "OFFSET_A",
    "SONE_SCALE",
    "STEP_CAMS",
    "TRANSFER_DB",
    "cams_to_hz",
    "erb_hz",
    "hz_to_cams",
    "partial_loudness",
    "roex_slopes",
    "specific_loudness",
    "spread_tables",
]

STEP_CAMS = 0.5
CAMS = np.arange(1.75, 38.8, STEP_CAMS)  # 47 Hz to 15 kHz

# Threshold of hearing, free field, both ears: ISO 226:2003 and, above 12.5 kHz, ISO 389-7 (from memory).
THRESHOLD_HZ = (
    20,
    25,
    31.5,
    40,
    50,
    63,
    80,
    100,
    125,
    160,
    200,
    250,
    315,
    400,
    500,
    630,
    800,
    1_000,
    1_250,
    1_600,
    2_000,
    2_500,
    3_150,
    4_000,
    5_000,
    6_300,
    8_000,
    10_000,
    12_500,
    14_000,
    16_000,
)
THRESHOLD_DB = (
    78.5,
    68.7,
    59.5,
    51.1,
    44.0,
    37.5,
    31.5,
    26.5,
    22.1,
    17.9,
    14.4,
    11.4,
    8.6,
    6.2,
    4.4,
    3.0,
    2.2,
    2.4,
    3.5,
    1.7,
    -1.3,
    -4.2,
    -6.0,
    -5.4,
    -1.5,
    6.0,
    12.6,
    13.9,
    12.3,
    18.4,
    40.2,
)
# Excitation at threshold: constant from 500 Hz on, rising below (ANSI S3.4-2007, from memory).
EXCITATION_HZ = (50, 63, 80, 100, 125, 160, 200, 250, 315, 400, 500)
EXCITATION_DB = (28.18, 23.90, 19.20, 15.68, 12.67, 10.09, 8.08, 6.30, 5.30, 4.50, 3.63)
# What gain of the cochlea, relative to that above 500 Hz, goes with which exponent and which offset.
GAIN_DB = (-25.0, -20.0, -15.0, -10.0, -5.0, 0.0)
EXPONENT = (0.26692, 0.25016, 0.23679, 0.22228, 0.21055, 0.20000)
OFFSET = (8.85, 7.50, 6.50, 5.80, 5.20, 4.62)
# Signal to noise at masked threshold at the output of an auditory filter (Moore et al. 1997, figure 9).
K_HZ, K_DB = (50, 100, 200, 300, 500, 1_000), (13.3, 6.0, 1.0, -0.5, -2.0, -3.0)
LOUDEST = 1e10  # excitation: above, another law would hold; no mix is listened to so loudly
LEVELS = 111  # dB, of the tables of spread


def hz_to_cams(hz: Array) -> Array:
    """Return the number of ERBs below a frequency (Glasberg and Moore 1990)."""
    return np.asarray(21.4 * np.log10(1.0 + 0.00437 * np.asarray(hz, dtype=np.float64)))


def cams_to_hz(cams: Array) -> Array:
    """Return the inverse of `hz_to_cams`."""
    return np.asarray((10.0 ** (np.asarray(cams, dtype=np.float64) / 21.4) - 1.0) / 0.00437)


def erb_hz(hz: Array) -> Array:
    """Return the equivalent rectangular bandwidth of the ear's filter at a frequency (Glasberg and Moore 1990)."""
    return np.asarray(24.7 * (4.37e-3 * np.asarray(hz, dtype=np.float64) + 1.0))


def _interpolated(hz: Array, table_hz: tuple[float, ...], values: tuple[float, ...]) -> Array:
    return np.asarray(np.interp(np.log(hz), np.log(table_hz), values))


def excitation_at_threshold_db(hz: Array) -> Array:
    """Return the excitation in dB of a sound that is just heard in quiet."""
    return _interpolated(hz, EXCITATION_HZ, EXCITATION_DB)


def transfer_db(hz: Array) -> Array:
    """Return the gain from the free field to the cochlea: what makes a tone at the threshold of hearing just excite
    it."""
    return excitation_at_threshold_db(hz) - _interpolated(hz, THRESHOLD_HZ, THRESHOLD_DB)


CENTRES_HZ = cams_to_hz(CAMS)
TRANSFER_DB = transfer_db(CENTRES_HZ)
E_THRESHOLD = 10.0 ** (excitation_at_threshold_db(CENTRES_HZ) / 10.0)


def law_of(centres_hz: Array) -> tuple[Array, Array, Array, Array]:
    """Return exponent, offset, low-level gain and K (both as powers) at centre frequencies."""
    gain_db = EXCITATION_DB[-1] - excitation_at_threshold_db(centres_hz)
    k = 10.0 ** (_interpolated(centres_hz, K_HZ, K_DB) / 10.0)
    return np.interp(gain_db, GAIN_DB, EXPONENT), np.interp(gain_db, GAIN_DB, OFFSET), 10.0 ** (gain_db / 10.0), k


ALPHA, OFFSET_A, LOW_GAIN, MASKING_K = law_of(CENTRES_HZ)


def roex_slopes(centres_hz: Array, level_db: Array) -> tuple[Array, Array]:
    """Return (lower, upper) slopes p of the ear's filters at centre frequencies for an input level per ERB.

    The lower skirt gets flatter with level: a loud low sound spreads upwards.
    """
    p51 = 4.0 * centres_hz / erb_hz(centres_hz)
    p51_1k = 4.0 * 1_000.0 / float(erb_hz(np.array(1_000.0)))
    lower = p51 - 0.35 * (p51 / p51_1k) * (level_db - 51.0)
    return np.maximum(lower, 0.1 * p51), p51


def roex(component_hz: Array, centres_hz: Array, level_db: Array) -> Array:
    """Return what share of a component's power excites the ear at centre frequencies."""
    g = (component_hz - centres_hz) / centres_hz
    lower, upper = roex_slopes(centres_hz, level_db)
    pg = np.where(g < 0.0, lower, upper) * np.abs(g)
    return np.where(np.abs(g) <= 4.0, (1.0 + pg) * np.exp(-pg), 0.0)


def spread_tables() -> Floats:
    """Return (LEVELS, bands, bands) float32: what a band's power excites of each centre, for each level in dB per
    ERB."""
    levels = np.arange(LEVELS, dtype=np.float64)[:, None, None]
    tables: Floats = roex(CENTRES_HZ[None, :, None], CENTRES_HZ[None, None, :], levels).astype(np.float32)
    return tables


def specific_loudness(excitation: Array) -> Array:
    """Return sones per Cam of (..., bands) excitations (powers, 1 is 0 dB) in quiet, of one ear.

    Raises
    ------
    Nothing.
    """
    return SONE_SCALE * _unscaled(np.minimum(np.asarray(excitation, dtype=np.float64), LOUDEST))


def _unscaled(e: Array) -> Array:
    n = (e * LOW_GAIN + OFFSET_A) ** ALPHA - OFFSET_A**ALPHA
    return np.asarray(n * np.where(e < E_THRESHOLD, (2.0 * e / (e + E_THRESHOLD)) ** 1.5, 1.0))


def partial_loudness(excitation: Array, noise: Array, *, bands: slice = slice(None)) -> Array:
    """Return sones per Cam of (..., bands) excitations in the presence of others' excitation, of one ear.

    Parameters
    ----------
    bands : which of the model's bands are given

    Raises
    ------
    Nothing.
    """
    e, n = (np.minimum(np.asarray(x, dtype=np.float64), LOUDEST) for x in (excitation, noise))
    alpha, offset, gain, k, quiet_e = (values[bands] for values in (ALPHA, OFFSET_A, LOW_GAIN, MASKING_K, E_THRESHOLD))
    threshold = k * n + quiet_e

    def law(x: Array) -> Array:
        return np.asarray((x * gain + offset) ** alpha)

    both, alone = law(e + n), law(n)
    at_threshold, quiet = law(n * (1.0 + k) + quiet_e), law(quiet_e)
    zero = offset**alpha
    above = both - zero - (at_threshold - quiet) * (threshold / np.maximum(e, 1e-12)) ** 0.3
    below = (
        (2.0 * e / (e + threshold)) ** 1.5 * (quiet - zero) / np.maximum(at_threshold - alone, 1e-12) * (both - alone)
    )
    return np.asarray(SONE_SCALE * np.maximum(np.where(e >= threshold, above, below), 0.0))


def _sone_scale() -> float:
    """Return what makes a tone of 1 kHz at 40 dB SPL, heard by both ears, one sone."""
    level_db = 40.0 + transfer_db(np.array(1_000.0))
    e = roex(np.array(1_000.0), CENTRES_HZ, level_db) * 10.0 ** (level_db / 10.0)
    return float(1.0 / (2.0 * STEP_CAMS * _unscaled(e).sum()))


SONE_SCALE = _sone_scale()
