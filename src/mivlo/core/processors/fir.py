"""Static sections in linear phase: a filter of the same magnitude, run by partitions on a fixed grid."""

from collections.abc import Sequence
from copy import copy
from dataclasses import dataclass
from functools import lru_cache
from typing import Self

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft, rfft

from mivlo.core.channel import Channel
from mivlo.core.filters.biquad import Biquad
from mivlo.core.filters.linear_phase import kernel_freqs_hz, linear_phase_kernel, n_taps_for, zero_phase_gains
from mivlo.core.processors.stage import Context, StageSpec, Trace
from mivlo.core.units import Array

__all__ = ["FirSpec", "FirStage"]

LONGEST_WHOLE_TAPS = 8_192  # up to here a filter is one partition, run over one and a half times its length at once
PARTITION_FRAMES = 4_096  # of longer ones
FADE_FRAMES = 512
_FADE = 0.5 - 0.5 * np.cos(np.pi * np.arange(FADE_FRAMES) / FADE_FRAMES)
Spectra = NDArray[np.complex128]


@dataclass(frozen=True, slots=True)
class FirSpec(StageSpec):
    """Static sections, each with its channel, in linear phase."""

    key: str
    sections: tuple[tuple[Biquad, Channel], ...]

    def structure(self) -> tuple[str, int]:
        return self.key, self.n_taps

    @property
    def n_taps(self) -> int:
        """Return the filter's length."""
        return n_taps_for([section for section, _ in self.sections])

    def make(self, n_channels: int, sample_rate_hz: float) -> "FirStage":
        return FirStage(self, n_channels, sample_rate_hz)

    def retune(self, stage: "FirStage") -> None:
        stage.retune(self)


def _partition_of(n_taps: int) -> tuple[int, int]:
    """Return how many taps are transformed together, and by how many frames the sound moves on each time.

    A short filter in one piece saves what adding the pieces up costs, and moving on by more than its length wastes less
    of each transform: 2.5 times the length is as fast as any that does not hold the sound back much longer.
    """
    if n_taps <= LONGEST_WHOLE_TAPS:
        return n_taps, n_taps + n_taps // 2
    return PARTITION_FRAMES, PARTITION_FRAMES


@lru_cache(maxsize=64)
def _kernel_spectra(spec: FirSpec, n_channels: int, sample_rate_hz: float) -> Spectra:
    """Return (partitions, bins), or (partitions, 2, 2, bins) where channels are treated unlike."""
    n_taps = spec.n_taps
    freqs_hz = kernel_freqs_hz(n_taps, sample_rate_hz)
    gains = zero_phase_gains(spec.sections, freqs_hz, n_channels=n_channels, sample_rate_hz=sample_rate_hz)
    kernel = linear_phase_kernel(gains, n_taps)
    size, step = _partition_of(n_taps)
    parts = kernel.reshape(*kernel.shape[:-1], n_taps // size, size)
    return np.moveaxis(np.asarray(rfft(parts, size + step, axis=-1)), -2, 0)


class FirStage:
    """Uniformly partitioned overlap-save; the grid of partitions starts at sample 0 of the stream."""

    def __init__(self, spec: FirSpec, n_channels: int, sample_rate_hz: float) -> None:
        self._rate = sample_rate_hz
        self._n_channels = n_channels
        self._taps = spec.n_taps
        self._before, self._step = _partition_of(self._taps)
        # Kernels in the order in which they came, each with the place (of the sound itself) where it fades in.
        self._kernels: list[tuple[Spectra, int]] = [(_kernel_spectra(spec, n_channels, sample_rate_hz), -(1 << 62))]
        self._history: list[Spectra] = []  # newest first
        self._incoming = np.zeros((n_channels, self._before))  # what a partition reaches back over, then what waits
        self._outgoing = np.zeros((n_channels, 0))
        self._position: int | None = None

    @property
    def latency_frames(self) -> int:
        return self._taps // 2 + self._step

    def retune(self, spec: FirSpec) -> None:
        """Fade to another filter of the same length from the stage's position on."""
        kernel = _kernel_spectra(spec, self._n_channels, self._rate)
        if kernel is not self._kernels[-1][0]:
            self._kernels = [*self._kernels, (kernel, -(1 << 62) if self._position is None else self._position)]

    def process(self, x: Array, context: Context) -> Array:
        if self._position is None:
            fill = context.frame % self._step
            self._incoming, self._outgoing = np.zeros((len(x), self._before + fill)), np.zeros((len(x), self._step - fill))
        n = x.shape[1]
        incoming, outgoing = np.concatenate([self._incoming, x], axis=1), [self._outgoing]
        start = context.frame - (self._incoming.shape[1] - self._before)
        done = 0
        size = self._before + self._step
        while incoming.shape[1] - done >= size:
            outgoing.append(self._block(incoming[:, done : done + size], start + done - self._taps // 2))
            done += self._step
        self._incoming = incoming[:, done:].copy()
        joined = np.concatenate(outgoing, axis=1)
        self._outgoing = joined[:, n:].copy()
        self._position = context.frame + n
        return joined[:, :n].copy()

    def trace(self) -> Trace | None:
        return None

    def clone(self) -> Self:
        other = copy(self)  # arrays are replaced, never written into
        other._kernels, other._history = list(self._kernels), list(self._history)
        return other

    def is_sound(self) -> bool:
        return all(bool(np.isfinite(part).all()) for part in (self._incoming, self._outgoing))

    def _block(self, x: Array, place: int) -> Array:
        """Return what leaves for a step behind what came before it; `place` is where its first frame belongs in the sound."""
        spectrum = np.asarray(rfft(x, axis=1))
        partitions = max(len(kernel) for kernel, _ in self._kernels)
        self._history = [spectrum, *self._history[: partitions - 1]]
        while len(self._kernels) > 1 and place >= self._kernels[1][1] + FADE_FRAMES:
            self._kernels = self._kernels[1:]
        out = self._convolved(self._kernels[0][0])
        for kernel, fade_place in self._kernels[1:]:
            if place + self._step > fade_place:
                index = np.clip(np.arange(place, place + self._step) - fade_place, -1, FADE_FRAMES)
                weight = np.concatenate([_FADE, [1.0, 0.0]])[index]
                out += weight * (self._convolved(kernel) - out)
        return out

    def _convolved(self, kernel: Spectra) -> Array:
        history: Sequence[Spectra] = self._history
        if kernel.ndim == 2:
            total = history[0] * kernel[0]
            for past, part in zip(history[1:], kernel[1:], strict=False):
                total += past * part
        else:
            total = np.zeros_like(history[0])
            for past, part in zip(history, kernel, strict=False):
                total += np.einsum("abf,bf->af", part, past)
        return np.asarray(irfft(total, self._before + self._step, axis=1)[:, self._before :])
