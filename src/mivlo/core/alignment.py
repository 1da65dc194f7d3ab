"""Two recordings of one source: how far one stands behind the other, and whether it is upside down."""

from dataclasses import dataclass

import numpy as np
from scipy.fft import irfft, next_fast_len, rfft

from mivlo.core.engine.source import Source, blocks_of
from mivlo.core.errors import ParameterError
from mivlo.core.units import Array, Floats

__all__ = ["Placed", "Relation", "offset_between", "placed", "relation_between"]

FRAME_S = 0.68  # some tens of times the longest shift between microphones
MOST_LOOKED = 1_200  # moments, evenly spread: all of the first seven minutes
MOST_FRAMES, FIRST_FRAMES = 48, 12  # the loudest moments; what has nothing in common in the first is left at that
LONGEST_SHIFT_S = 0.012
LOW_HZ, HIGH_HZ = 60.0, 8_000.0
OFFSET_RATE_HZ = 8_000.0
LOOKED_S = 300.0  # of both sounds, from the first of them on: what came back is hardly later than that
SILENT = 1e-20
WHITENED = 0.75  # of a bin's power that stays: where spill and noise are all there is, there is little power
UNLIKE = 0.25  # at the first moments, where chance makes two sounds more like each other than they are
LEAST_LIKENESS, LEAST_STEEPNESS, LEAST_BINS = 0.4, 1.05, 15.0


@dataclass(frozen=True, slots=True)
class Placed:
    """A sound of a session: the frame at which it begins, and its power at moments of the session, (moments,), which
    come every `hop` frames; 0 where it does not sound throughout."""

    source: Source
    start_frame: int
    powers: Array
    hop: int


@dataclass(frozen=True, slots=True)
class Relation:
    """`shift_frames` by which the second sound is later, `flipped` where it is upside down.

    Parameters
    ----------
    likeness : from 0 to 1, which part of both is one sound
    steepness : how far the best shift stands above the next best, and above the other polarity
    n_bins : among how many bins of the transform the common power is spread: few are steady tones, which come round
        again at many shifts
    """

    shift_frames: int
    flipped: bool
    likeness: float
    steepness: float
    n_bins: float

    @property
    def is_one_source(self) -> bool:
        """Tell whether both hold one source, more than what one spills into the other."""
        return self.likeness >= LEAST_LIKENESS

    @property
    def is_sure(self) -> bool:
        """Tell whether shift and polarity can be told; of steady tones they cannot."""
        return self.is_one_source and self.steepness >= LEAST_STEEPNESS and self.n_bins >= LEAST_BINS


def placed(source: Source, *, start_frame: int, session_frames: int, sample_rate_hz: float) -> Placed:
    """Return a sound that begins at a frame of a session, which may be before its own first, with its powers.

    Raises
    ------
    Nothing.
    """
    size = _size(sample_rate_hz)
    last = max(session_frames - size, 0)
    hop = max(size // 2, -(-last // MOST_LOOKED))
    powers = np.zeros(last // hop + 1)
    for moment in range(len(powers)):
        at = moment * hop - start_frame
        if 0 <= at <= source.n_frames - size:
            powers[moment] = np.mean(np.square(source.read(at, size)))
    return Placed(source, start_frame, powers, hop)


def relation_between(one: Placed, other: Placed, *, sample_rate_hz: float) -> Relation:
    """Return how two sounds of one session stand to one another.

    Raises
    ------
    Nothing.

    Source: generalised cross-correlation with the maximum-likelihood weights of C. H. Knapp, G. C. Carter, "The
    generalized correlation method for estimation of time delay", IEEE Trans. ASSP 24(4), 1976 (from memory)
    """
    first = _relation(one, other, sample_rate_hz, FIRST_FRAMES)
    return first if first.likeness < UNLIKE else _relation(one, other, sample_rate_hz, MOST_FRAMES)


def _relation(one: Placed, other: Placed, sample_rate_hz: float, most: int) -> Relation:
    size = _size(sample_rate_hz)
    spectra = _cross_spectra(one, other, size, most)
    if spectra is None:
        return Relation(0, False, 0.0, 1.0, 0.0)
    cross, own, others, n_looked = spectra
    hz = np.arange(size // 2 + 1) * sample_rate_hz / size
    inside = (hz >= LOW_HZ) & (hz <= min(HIGH_HZ, 0.45 * sample_rate_hz))
    chance = 1.0 / n_looked
    coherence = np.abs(cross) ** 2 / np.maximum(own * others, SILENT)
    known = np.clip((coherence - chance) / (1.0 - chance), 0.0, 1.0) * inside
    # What one microphone's filter turns and another's does not is told by their levels, as far as it is minimum phase.
    turned = _minimum_phase(_level_ratio(own * known, others * known, hz), size)
    weights = np.sqrt(known) * np.sqrt(own * others) ** WHITENED
    correlation = irfft(cross / np.maximum(np.abs(cross), SILENT) * np.exp(-1j * turned) * weights, size)
    reach = round(LONGEST_SHIFT_S * sample_rate_hz)
    near = np.concatenate([correlation[-reach:], correlation[: reach + 1]])
    best = int(np.argmax(np.abs(near)))
    shift = best - reach
    likeness = _likeness(cross, own, others, shift, hz, inside)
    steepness = _steepness(near, best, sample_rate_hz)
    power = np.abs(cross) * inside
    n_bins = float(power.sum() ** 2 / max(np.sum(power**2), SILENT))
    return Relation(-shift, bool(near[best] < 0.0), likeness, steepness, n_bins)


def offset_between(one: Source, other: Source, *, sample_rate_hz: float) -> int:
    """Return by how many frames what the first sound holds comes later in the second, wherever that is within the first
    minutes of both.

    Raises
    ------
    ParameterError: the two have nothing in common

    Source: cross-correlation at a lower rate, then as `relation_between`
    """
    step = max(round(sample_rate_hz / OFFSET_RATE_HZ), 1)
    start = min(map(_first_sound, (one, other)))
    low = [_slower(x, step, start, min(x.n_frames, start + round(LOOKED_S * sample_rate_hz))) for x in (one, other)]
    size = next_fast_len(sum(map(len, low)))
    a, b = (rfft(x, size) for x in low)
    cross = a * np.conj(b)
    correlation = irfft(cross / np.maximum(np.abs(cross), SILENT) ** 0.5, size)
    lag = int(np.argmax(np.abs(correlation)))
    coarse = -step * (lag if lag < len(low[0]) else lag - size)
    first, second = max(-coarse, 0), max(coarse, 0)
    together = max(min(one.n_frames - first, other.n_frames - second), 0)
    places = (
        placed(x, start_frame=-at, session_frames=together, sample_rate_hz=sample_rate_hz)
        for x, at in ((one, first), (other, second))
    )
    fine = relation_between(*places, sample_rate_hz=sample_rate_hz)
    if not fine.is_one_source:
        raise ParameterError("nothing of the one sound was found in the other: are both the same track?")
    return coarse + fine.shift_frames


def _first_sound(source: Source) -> int:
    """Return the frame of the block in which a sound begins, its end where there is none."""
    at = 0
    for block in blocks_of(source, 0, source.n_frames):
        if np.any(block):
            return at
        at += block.shape[1]
    return at


def _slower(source: Source, step: int, start: int, end: int) -> Array:
    # Imported late: it takes longer to load than the rest of the application.
    from scipy.signal import resample_poly

    parts = [block.mean(axis=0) for block in blocks_of(source, start, end)]
    return np.asarray(resample_poly(np.concatenate([np.zeros(0), *parts]), 1, step))


def _size(sample_rate_hz: float) -> int:
    return int(1 << round(np.log2(FRAME_S * sample_rate_hz)))


def _cross_spectra(one: Placed, other: Placed, size: int, most: int) -> tuple[Array, Array, Array, int] | None:
    """Return (bins,) of the cross-spectrum and both powers, summed over the moments that are loudest in both, and how
    many those are; None where they never sound together."""
    both = np.sqrt(one.powers * other.powers)
    chosen = np.argsort(-both)[:most]
    chosen = chosen[both[chosen] > 1e-4 * both.max(initial=0.0)]
    if len(chosen) < 4:
        return None
    window = np.hanning(size + 1)[:size].astype(np.float32)
    total = [np.zeros(size // 2 + 1, dtype=complex), np.zeros(size // 2 + 1), np.zeros(size // 2 + 1)]
    for moment in np.sort(chosen):
        a, b = (rfft(_mono(x.source, int(moment) * one.hop - x.start_frame, size) * window) for x in (one, other))
        level = np.sqrt(np.sum(np.abs(a) ** 2) * np.sum(np.abs(b) ** 2)) + SILENT
        total[0] += a * np.conj(b) / level
        total[1] += np.abs(a) ** 2 / level
        total[2] += np.abs(b) ** 2 / level
    return total[0], total[1].real, total[2].real, len(chosen)


def _mono(source: Source, start: int, n_frames: int) -> Floats:
    return np.asarray(source.read(start, n_frames).mean(axis=0), dtype=np.float32)


def _level_ratio(own: Array, others: Array, hz: Array) -> Array:
    """Return (bins,) of the ratio of two powers, by octaves."""
    edges = 30.0 * 2.0 ** np.arange(0.0, 10.0)
    bands = np.digitize(hz, edges)
    powers = [np.bincount(bands, one, len(edges) + 1)[1:-1] for one in (own, others)]
    least = 1e-9 * max(float(one.max()) for one in powers) + SILENT
    ratio = np.log((powers[0] + least) / (powers[1] + least))
    middles = np.log(np.sqrt(edges[1:] * edges[:-1]))
    return np.asarray(np.exp(np.interp(np.log(np.maximum(hz, 1.0)), middles, ratio)))


def _minimum_phase(power: Array, size: int) -> Array:
    """Return the phase in radians of the minimum-phase filter that has a power response, of a transform's bins."""
    cepstrum = irfft(0.5 * np.log(power), size)
    cepstrum[1 : size // 2] *= 2.0
    cepstrum[size // 2 + 1 :] = 0.0
    return np.asarray(np.imag(rfft(cepstrum)))


def _likeness(cross: Array, own: Array, others: Array, shift: int, hz: Array, inside: np.ndarray) -> float:
    """Return which part of both is one sound that comes at a shift: by thirds of an octave, so that what a filter
    turns does not count, weighted by their power."""
    turned = cross * np.exp(1j * np.pi * np.arange(len(hz)) * shift / (len(hz) - 1))
    edges = LOW_HZ * 2.0 ** (np.arange(0, 3 * np.log2(HIGH_HZ / LOW_HZ) + 1) / 3.0)
    bands = np.digitize(hz[inside], edges)

    def by_band(values: Array) -> Array:
        return np.asarray(np.bincount(bands, values[inside], len(edges) + 1), dtype=np.float64)

    both = np.sqrt(by_band(own) * by_band(others))
    common = np.hypot(by_band(np.real(turned)), by_band(np.imag(turned)))
    return float(common.sum() / max(both.sum(), SILENT))


def _steepness(near: Array, best: int, sample_rate_hz: float) -> float:
    """Return how far the best shift stands above the next best that is not beside it."""
    beside = max(round(0.0003 * sample_rate_hz), 1)
    rest = np.abs(near).copy()
    rest[max(best - beside, 0) : best + beside + 1] = 0.0
    return float(np.abs(near[best]) / max(rest.max(), 1e-9))
