"""Hearing what is taken away: the untreated sound through |1 - |H||, in linear phase and aligned in time."""

from collections import OrderedDict
from collections.abc import Callable, Sequence
from functools import lru_cache

import numpy as np
from numpy.fft import irfft, rfft, rfftfreq

from mivlo.core.engine.plan import static_sections
from mivlo.core.engine.strip import Strip
from mivlo.core.filters.linear_phase import zero_phase_gains
from mivlo.core.model import StripBase
from mivlo.core.moves.capabilities import FollowsLevel, Steady
from mivlo.core.processors.stage import Trace
from mivlo.core.units import Array

__all__ = ["OffcutsSource"]

# Static moves alone: at 48 kHz rows of 3 Hz, narrower than any useful move above 30 Hz. With moves whose gain goes up
# and down or begins and ends, windows short enough to follow it.
STEADY_FRAMES, MOVING_FRAMES = 16_384, 4_096
OVERLAP = 4
KEPT_FRAMES = 16


class OffcutsSource:
    """Overlapping windows of the strip's raw sound, each through what its moves take away just then."""

    def __init__(
        self, strip: Strip, state: StripBase, position_of: Callable[[int], int], *, sample_rate_hz: float
    ) -> None:
        self._strip, self._state, self._position_of = strip, state, position_of
        self._rate = sample_rate_hz
        self._moving = [
            (entry.id, entry.move)
            for entry in (state.acting_ledger if state.amount else ())
            if not isinstance(entry.move, Steady) and entry.move.takes_away and not entry.move.stand_in
        ]
        self._timed = any(entry.move.times_s for entry in state.ledger if isinstance(entry.move, Steady))
        self._size = MOVING_FRAMES if self._moving or self._timed else STEADY_FRAMES
        self._hop = self._size // OVERLAP
        self._hz = np.asarray(rfftfreq(2 * self._size, 1.0 / sample_rate_hz), dtype=np.float64)
        self._static = self._static_gains(0.0)
        self._window = np.hanning(self._size + 1)[: self._size] / (OVERLAP / 2)
        self._windows: OrderedDict[int, Array] = OrderedDict()
        if self._moving:
            strip.trace(True)

    @property
    def ahead_frames(self) -> int:
        """Return how far ahead the moves' gains must be known."""
        return 2 * self._size if self._moving else 0

    def cut(self) -> None:
        """Forget what was computed."""
        self._windows.clear()

    def read(self, frame: int, n_frames: int) -> Array:
        """Return (channels, n_frames)."""
        out = np.zeros((self._strip.n_channels, n_frames))
        # A window's sound reaches half its size to each side further, once filtered.
        first = (frame - 3 * self._size // 2) // self._hop
        last = -(-(frame + n_frames + self._size // 2) // self._hop)
        for index in range(first, last):
            start = index * self._hop - self._size // 2
            low, high = max(start, frame), min(start + 2 * self._size, frame + n_frames)
            if low < high:
                out[:, low - frame : high - frame] += self._filtered(index)[:, low - start : high - start]
        return out

    def _filtered(self, index: int) -> Array:
        """Return the (channels, 2 · size) sound of the window that begins at index · hop, from half a size earlier
        on."""
        if index not in self._windows:
            start = index * self._hop
            x = self._strip.read_raw(start, self._size) * self._window
            padded = np.pad(x, ((0, 0), (self._size // 2, self._size // 2)))
            spectrum = rfft(padded, axis=1)
            gains = self._gains(start + self._size // 2)
            alike = gains.ndim == 1
            taken = np.abs(1.0 - gains) * spectrum if alike else spectrum - np.einsum("abf,bf->af", gains, spectrum)
            self._windows[index] = np.asarray(irfft(taken, 2 * self._size, axis=1))
            while len(self._windows) > KEPT_FRAMES:
                self._windows.popitem(last=False)
        return self._windows[index]

    def _static_gains(self, at_s: float) -> Array:
        sections = static_sections(self._state, sample_rate_hz=self._rate, at_s=at_s)
        return zero_phase_gains(sections, self._hz, n_channels=self._strip.n_channels, sample_rate_hz=self._rate)

    def _gains(self, frame: int) -> Array:
        gains = self._static_gains(self._position_of(frame) / self._rate) if self._timed else self._static
        traces = self._strip.traces() if self._moving else {}
        for key, move in self._moving:
            found = _trace_at(traces.get(key, ()), frame)
            if found is None:
                continue
            gain_db, bands_hz = found
            if isinstance(move, FollowsLevel):
                h = _response_at(move, round(float(gain_db), 1), self._rate, 2 * self._size)
            elif not len(bands_hz):
                h = np.full(self._hz.shape, 10.0 ** (float(gain_db) / 20.0))
            else:
                h = 10.0 ** (np.interp(self._hz, bands_hz, gain_db, left=0.0, right=0.0) / 20.0)
            gains = gains * h
        return gains


@lru_cache(maxsize=512)
def _response_at(move: FollowsLevel, gain_db: float, sample_rate_hz: float, size: int) -> Array:
    hz = np.asarray(rfftfreq(size, 1.0 / sample_rate_hz), dtype=np.float64)
    return np.abs(move.response_at(gain_db, hz, sample_rate_hz))


def _trace_at(traces: Sequence[Trace], frame: int) -> tuple[Array, Array] | None:
    """Return the gain at a frame, and the bands that it is told for."""
    for trace in reversed(traces):
        if trace.frame <= frame:
            index = min((frame - trace.frame) // trace.step_frames, len(trace.gain_db) - 1)
            return trace.gain_db[index], trace.bands_hz
    return None
