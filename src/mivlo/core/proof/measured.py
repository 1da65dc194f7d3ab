"""What a sound reads: loudness, true peak, loudness range, and crest factors by region."""

from collections.abc import Iterable

import numpy as np
from pydantic import BaseModel

from mivlo.core.loudness import LoudnessMeter, TruePeakMeter
from mivlo.core.units import Array

__all__ = ["CREST_REGIONS", "SoundFigures", "figures_of"]

CREST_REGIONS: dict[str, tuple[float, float]] = {
    "lows": (20.0, 250.0), "mids": (250.0, 4_000.0), "highs": (4_000.0, 20_000.0),
}  # fmt: skip
ORDER = 4


class SoundFigures(BaseModel):
    """What a sound reads; None of silence and of what is too short. Crest factors: peak over RMS in a region, in dB."""

    loudness_lufs: float | None
    true_peak_db: float | None
    loudness_range_lu: float | None
    crest_db: dict[str, float | None]


def figures_of(blocks: Iterable[Array], *, sample_rate_hz: float) -> SoundFigures:
    """Return what (channels, n) blocks that follow one another read; raises nothing.

    Source: BS.1770-4; EBU Tech 3342 for the range; Butterworth bands for the crest factors (ours)
    """
    from scipy.signal import butter, sosfilt

    meter, true_peaks = LoudnessMeter(sample_rate_hz), TruePeakMeter()
    bands = {
        name: butter(ORDER, [low, min(high, 0.49 * sample_rate_hz)], "bandpass", fs=sample_rate_hz, output="sos")
        for name, (low, high) in CREST_REGIONS.items()
    }
    states: dict[str, Array] = {}
    peaks, squares, n_samples = dict.fromkeys(bands, 0.0), dict.fromkeys(bands, 0.0), 0
    for block in blocks:
        meter.push(block)
        true_peaks.push(block)
        n_samples += block.size
        for name, sections in bands.items():
            state = states.get(name, np.zeros((len(sections), block.shape[0], 2)))
            band, states[name] = sosfilt(sections, block, axis=1, zi=state)
            peaks[name] = max(peaks[name], float(np.max(np.abs(band), initial=0.0)))
            squares[name] += float(np.sum(band**2))

    def crest_db(name: str) -> float | None:
        if squares[name] <= 1e-16 * n_samples:
            return None
        return float(20.0 * np.log10(peaks[name] / np.sqrt(squares[name] / n_samples)))

    return SoundFigures(
        loudness_lufs=meter.integrated_lufs(), true_peak_db=true_peaks.true_peak_db(),
        loudness_range_lu=meter.loudness_range_lu(), crest_db={name: crest_db(name) for name in bands},
    )  # fmt: skip
