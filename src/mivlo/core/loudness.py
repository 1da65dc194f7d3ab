"""Loudness and peak after ITU-R BS.1770-4 (coefficients from memory, checked against two other programs).

Full scale is the peak of a full-scale sine. What has no loudness (silence, under 400 ms) has None. Everything goes
block by block: what is kept of a sound is one figure for each tenth of a second.
"""

import numpy as np

from mivlo.core.k_weighting import k_weighting, power_to_lufs
from mivlo.core.units import Array

__all__ = [
    "LoudnessMeter",
    "TruePeakMeter",
    "integrated_loudness",
    "momentary_powers",
    "sample_peak_db",
    "true_peak_db",
]

HOP_S = 0.1
ABSOLUTE_GATE_LUFS, RELATIVE_GATE_LU = -70.0, -10.0
RANGE_HOPS, RANGE_GATE_LU = 30, -20.0  # of the loudness range: 3 s
TRUE_PEAK_OVERSAMPLING = 4
TRUE_PEAK_CHUNK_FRAMES, TRUE_PEAK_MARGIN_FRAMES = 1 << 18, 512


class LoudnessMeter:
    """Measures a sound that comes in blocks; its figures are those of the whole, however it was cut.

    Source: BS.1770-4, annexes 1 and 2 (from memory)
    """

    def __init__(self, sample_rate_hz: float) -> None:
        self._sections = k_weighting(sample_rate_hz)
        self._hop = round(HOP_S * sample_rate_hz)
        self._state: Array | None = None  # of the weighting filters, once the channels are known
        self._squares = np.zeros(0)  # of less than a hop
        self._hops: list[Array] = []

    def push(self, block: Array) -> None:
        """Take the next (channels, n) float64 in; raises nothing."""
        # Imported late: it takes longer to load than the rest of the application, and only measurements need it.
        from scipy.signal import sosfilt

        if self._state is None:
            self._state = np.zeros((len(self._sections), block.shape[0], 2))
        weighted, self._state = sosfilt(self._sections, block, axis=1, zi=self._state)
        squares = np.concatenate([self._squares, np.sum(weighted**2, axis=0)])
        n_hops = len(squares) // self._hop
        self._hops.append(squares[: n_hops * self._hop].reshape(n_hops, self._hop).sum(axis=1))
        self._squares = squares[n_hops * self._hop :]

    def momentary_powers(self) -> Array:
        """Return (windows,) float64: the K-weighted power, summed over channels, of 400 ms every 100 ms."""
        hops = np.concatenate(self._hops) if self._hops else np.zeros(0)
        if len(hops) < 4:
            return np.zeros(0)
        return np.asarray((hops[:-3] + hops[1:-2] + hops[2:-1] + hops[3:]) / (4 * self._hop))

    def integrated_lufs(self) -> float | None:
        """Return the gated loudness in LUFS, or None where there is none."""
        powers = self.momentary_powers()
        powers = powers[power_to_lufs(powers) > ABSOLUTE_GATE_LUFS]
        if not powers.size:
            return None
        gate = float(power_to_lufs(np.mean(powers, keepdims=True))[0]) + RELATIVE_GATE_LU
        return float(power_to_lufs(np.mean(powers[power_to_lufs(powers) > gate], keepdims=True))[0])

    def loudness_range_lu(self) -> float | None:
        """Return the loudness range, or None under 3 s and of silence.

        Source: EBU Tech 3342 (from memory): 3 s every 100 ms, gates at -70 LUFS and 20 LU down, 10 to 95 per cent
        """
        hops = np.concatenate(self._hops) if self._hops else np.zeros(0)
        if len(hops) < RANGE_HOPS:
            return None
        sums = np.cumsum(np.concatenate([[0.0], hops]))
        powers = (sums[RANGE_HOPS:] - sums[:-RANGE_HOPS]) / (RANGE_HOPS * self._hop)
        powers = powers[power_to_lufs(powers) > ABSOLUTE_GATE_LUFS]
        if not powers.size:
            return None
        levels = power_to_lufs(powers)
        levels = levels[levels > power_to_lufs(np.mean(powers, keepdims=True))[0] + RANGE_GATE_LU]
        low, high = np.percentile(levels, [10.0, 95.0])
        return float(high - low)


class TruePeakMeter:
    """Measures the true peak of a sound that comes in blocks, however it was cut: apart from the loudness, since it
    takes many times as long.

    Source: BS.1770-4, annex 2 (from memory)
    """

    def __init__(self) -> None:
        self._waiting: Array | None = None  # a margin of what was measured, then what was not
        self._margin = 0
        self._peak = 0.0

    def push(self, block: Array) -> None:
        """Take the next (channels, n) float64 in; raises nothing."""
        self._waiting = block if self._waiting is None else np.concatenate([self._waiting, block], axis=1)
        while self._waiting.shape[1] - self._margin >= TRUE_PEAK_CHUNK_FRAMES + TRUE_PEAK_MARGIN_FRAMES:
            self._peak = max(self._peak, self._peak_of_next(self._waiting, TRUE_PEAK_CHUNK_FRAMES))
            done = self._margin + TRUE_PEAK_CHUNK_FRAMES - TRUE_PEAK_MARGIN_FRAMES
            self._waiting, self._margin = self._waiting[:, done:], TRUE_PEAK_MARGIN_FRAMES

    def true_peak_db(self) -> float | None:
        """Return the true peak in dBTP by fourfold oversampling, or None for silence."""
        rest = 0 if self._waiting is None else self._waiting.shape[1] - self._margin
        peak = self._peak
        if self._waiting is not None and rest:
            peak = max(peak, self._peak_of_next(self._waiting, rest))
        return 20.0 * np.log10(peak) if peak > 0.0 else None

    def _peak_of_next(self, waiting: Array, n_frames: int) -> float:
        """Return the peak of the next frames that wait; the margins around them keep seams from ringing."""
        import soxr  # late, like scipy above

        last = self._margin + n_frames
        samples = waiting[:, : last + TRUE_PEAK_MARGIN_FRAMES]
        up = soxr.resample(samples.T, 1, TRUE_PEAK_OVERSAMPLING, quality="VHQ")
        inner = up[self._margin * TRUE_PEAK_OVERSAMPLING :][: n_frames * TRUE_PEAK_OVERSAMPLING]
        return max(float(np.max(np.abs(inner))), float(np.max(np.abs(samples[:, self._margin : last]))))


def _measured(samples: Array, sample_rate_hz: float) -> LoudnessMeter:
    meter = LoudnessMeter(sample_rate_hz)
    meter.push(samples)
    return meter


def momentary_powers(samples: Array, *, sample_rate_hz: float) -> Array:
    """Return the K-weighted power, summed over channels, of 400 ms windows every 100 ms.

    Parameters
    ----------
    samples : (channels, frames) float64, one or two channels

    Returns
    -------
    (windows,) float64; empty where there are under 400 ms

    Raises
    ------
    Nothing.

    Source: BS.1770-4, annex 1 (from memory)
    """
    return _measured(samples, sample_rate_hz).momentary_powers()


def integrated_loudness(samples: Array, *, sample_rate_hz: float) -> float | None:
    """Return the gated loudness in LUFS of (channels, frames), or None where there is none."""
    return _measured(samples, sample_rate_hz).integrated_lufs()


def sample_peak_db(samples: Array) -> float | None:
    """Return the highest sample in dBFS, or None for silence."""
    peak = float(np.max(np.abs(samples))) if samples.size else 0.0
    return 20.0 * np.log10(peak) if peak > 0.0 else None


def true_peak_db(samples: Array) -> float | None:
    """Return the true peak in dBTP of (channels, frames) by fourfold oversampling, or None for silence."""
    meter = TruePeakMeter()
    meter.push(samples)
    return meter.true_peak_db()
