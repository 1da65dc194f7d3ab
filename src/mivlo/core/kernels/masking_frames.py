"""The loops of the model of hearing: excitation of every track, and what each loses to each other, frame by frame."""

import numpy as np
from numba import njit

__all__ = ["lose", "shared_out"]


@njit(cache=True, nogil=True, fastmath=True)
def excite(power, spread, reach, alone, together, levels_db):
    """Spread the power of every track over the ear's places, for one frame and ear.

    power (tracks, bands): 1 is 0 dB SPL; spread (levels, bands, bands), one table for each dB from 0 on
    reach (levels, bands, 2): first and last place that a band of that level excites enough to be heard
    Writes alone (tracks, bands), by each track's own levels, and together (tracks, bands), by the levels of the sum.
    levels_db (bands,) is scratch.
    """
    n_tracks, n_bands = power.shape
    top = spread.shape[0] - 1
    total = np.zeros(n_bands, dtype=np.float32)
    for k in range(n_tracks):
        for b in range(n_bands):
            total[b] += power[k, b]
    alone[:, :] = 0.0
    together[:, :] = 0.0
    for k in range(-1, n_tracks):
        for b in range(n_bands):
            # The level of one ERB around: two bands.
            row = total if k < 0 else power[k]
            here = row[b]
            if b > 0:
                here += np.float32(0.5) * row[b - 1]
            if b < n_bands - 1:
                here += np.float32(0.5) * row[b + 1]
            level = 10.0 * np.log10(max(here, np.float32(1e-10)))
            levels_db[b] = min(max(int(level + 0.5), 0), top)
        for b in range(n_bands):
            level = levels_db[b]
            row_of = spread[level, b]
            first, last = reach[level, b, 0], reach[level, b, 1]
            if k < 0:
                for track in range(n_tracks):
                    p = power[track, b]
                    if p > np.float32(1e-4):
                        for c in range(first, last):
                            together[track, c] += p * row_of[c]
            else:
                p = power[k, b]
                if p > np.float32(1e-4):
                    for c in range(first, last):
                        alone[k, c] += p * row_of[c]


@njit(cache=True, nogil=True, fastmath={"contract"})
def loudness_in_quiet(e, threshold, alpha, offset, gain):
    """Return specific loudness of an excitation, without the scale."""
    n = (e * gain + offset) ** alpha - offset**alpha
    return n * (2.0 * e / (e + threshold)) ** 1.5 if e < threshold else n


@njit(cache=True, nogil=True, fastmath={"contract"})
def loudness_in_noise(e, noise, threshold, alpha, offset, gain, k):
    """Return specific loudness of an excitation in the presence of another's, without the scale."""
    masked = k * noise + threshold
    zero = offset**alpha
    both = ((e + noise) * gain + offset) ** alpha
    quiet = (threshold * gain + offset) ** alpha
    at = ((noise * (1.0 + k) + threshold) * gain + offset) ** alpha
    if e >= masked:
        return max(both - zero - (at - quiet) * (masked / e) ** 0.3, 0.0)
    alone = (noise * gain + offset) ** alpha
    return max((2.0 * e / (e + masked)) ** 1.5 * (quiet - zero) / max(at - alone, 1e-12) * (both - alone), 0.0)


@njit(cache=True, nogil=True)
def lose(power, spread, reach, law, loudness, kept, excitation):
    """Write the loudness of every track alone, what is kept of it among the others, and what it excites among them.

    power (tracks, frames, bands); law (5, bands): threshold, exponent, offset, gain, K
    loudness, kept, excitation (tracks, frames, bands): all added to
    """
    n_tracks, n_frames, n_bands = power.shape
    alone = np.zeros((n_tracks, n_bands), dtype=np.float32)
    together = np.zeros((n_tracks, n_bands), dtype=np.float32)
    levels = np.zeros(n_bands, dtype=np.int64)
    for frame in range(n_frames):
        excite(power[:, frame], spread, reach, alone, together, levels)
        for b in range(n_bands):
            total = 0.0
            for k in range(n_tracks):
                total += together[k, b]
            for k in range(n_tracks):
                excitation[k, frame, b] += together[k, b]
                e = alone[k, b]
                if e < 1e-3:
                    continue
                n = loudness_in_quiet(e, law[0, b], law[1, b], law[2, b], law[3, b])
                noise = max(total - together[k, b], 0.0)
                left = loudness_in_noise(together[k, b], noise, law[0, b], law[1, b], law[2, b], law[3, b], law[4, b])
                loudness[k, frame, b] += n
                kept[k, frame, b] += min(left, n)


@njit(cache=True, nogil=True, fastmath={"contract"})
def shared_out(lost, excitation, sounding, pairs, heard):
    """Add up who takes what from whom: each loss is shared out by what the others excite at that place.

    lost, excitation (tracks, frames, bands); sounding (tracks, frames) bool; heard (tracks, frames, bands): loudness
    alone pairs (2, hidden, by, bands): summed losses, and summed loudness of the hidden one, while both sound
    """
    n_tracks, n_frames, n_bands = lost.shape
    for frame in range(n_frames):
        for b in range(n_bands):
            total = 0.0
            for k in range(n_tracks):
                total += excitation[k, frame, b]
            for k in range(n_tracks):
                if not sounding[k, frame] or heard[k, frame, b] <= 0.0:
                    continue
                noise = max(total - excitation[k, frame, b], 1e-9)
                for m in range(n_tracks):
                    if m != k and sounding[m, frame]:
                        pairs[0, k, m, b] += lost[k, frame, b] * min(excitation[m, frame, b] / noise, 1.0)
                        pairs[1, k, m, b] += heard[k, frame, b]
