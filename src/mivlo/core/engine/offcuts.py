"""Hearing what is taken away: the untreated source through |1 - |H||, in linear phase and aligned in time."""

from collections import OrderedDict
from collections.abc import Sequence

import numpy as np

from mivlo.core.engine.source import Source
from mivlo.core.filters.biquad import Biquad, frequency_response
from mivlo.core.units import Array

__all__ = ["OffcutsSource", "offcuts_filter"]

FIR_FRAMES = 16_384  # at 48 kHz: rows of 3 Hz, narrower than any useful move above 30 Hz
CHUNK_FRAMES = 8_192
KEPT_CHUNKS = 4


def offcuts_filter(sections: Sequence[Biquad], *, sample_rate_hz: float) -> Array:
    """Return the (FIR_FRAMES,) symmetric filter of magnitude |1 - |H||, its centre at FIR_FRAMES // 2.

    Source: frequency sampling with a Hann window; what offcuts are is ours (docs/method.md).
    """
    freqs_hz = np.asarray(np.fft.rfftfreq(FIR_FRAMES, 1.0 / sample_rate_hz), dtype=np.float64)
    taken = np.abs(1.0 - np.abs(frequency_response(sections, freqs_hz, sample_rate_hz=sample_rate_hz)))
    kernel = np.roll(np.fft.irfft(taken, FIR_FRAMES), FIR_FRAMES // 2)
    return np.asarray(kernel * np.hanning(FIR_FRAMES + 1)[:FIR_FRAMES])


class OffcutsSource:
    """A source that reads another one through its offcuts filter, in chunks on a grid from the source's first frame."""

    def __init__(self, source: Source, sections: Sequence[Biquad], *, sample_rate_hz: float) -> None:
        self._source = source
        self._size = CHUNK_FRAMES + FIR_FRAMES
        self._spectrum = np.fft.rfft(offcuts_filter(sections, sample_rate_hz=sample_rate_hz), self._size)
        self._chunks: OrderedDict[int, Array] = OrderedDict()

    @property
    def n_channels(self) -> int:
        return self._source.n_channels

    @property
    def n_frames(self) -> int:
        return self._source.n_frames

    def read(self, start: int, n_frames: int) -> Array:
        out = np.empty((self.n_channels, n_frames))
        done = 0
        while done < n_frames:
            index, inside = divmod(start + done, CHUNK_FRAMES)
            count = min(n_frames - done, CHUNK_FRAMES - inside)
            out[:, done : done + count] = self._chunk(index)[:, inside : inside + count]
            done += count
        return out

    def _chunk(self, index: int) -> Array:
        if index not in self._chunks:
            half = FIR_FRAMES // 2
            x = self._source.read(index * CHUNK_FRAMES - half, self._size)
            filtered = np.fft.irfft(np.fft.rfft(x, axis=1) * self._spectrum, self._size, axis=1)
            self._chunks[index] = filtered[:, FIR_FRAMES:]
            if len(self._chunks) > KEPT_CHUNKS:
                self._chunks.popitem(last=False)
        return self._chunks[index]
