"""Static sections in linear phase: a filter of the same magnitude, run by partitions on a fixed grid."""

from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import Self

import numpy as np
from numpy.fft import irfft, rfft
from numpy.typing import NDArray

from mivlo.core.channel import Channel
from mivlo.core.cloning import sharing_clone
from mivlo.core.filters.biquad import Biquad
from mivlo.core.filters.linear_phase import (
    Lanes,
    kernel_freqs_hz,
    lane_gains,
    lanes_of,
    linear_phase_kernel,
    n_taps_for,
)
from mivlo.core.processors.stage import Context, StageSpec, Trace
from mivlo.core.units import Array

__all__ = ["FirSpec", "FirStage"]

LONGEST_WHOLE_TAPS = 8_192  # up to here a filter is one partition, run over one and a half times its length at once
PARTITION_FRAMES = 4_096  # of longer ones
LONGEST_AT_ONCE_TAPS = 32_768  # up to here a filter is made in a few milliseconds
KERNELS_KEPT = 32  # each 8 MB and more where longest
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

    def memory_s(self, sample_rate_hz: float) -> float:
        return self.n_taps / sample_rate_hz

    def takes_long(self) -> bool:
        return self.n_taps > LONGEST_AT_ONCE_TAPS

    def prepare(self, n_channels: int, sample_rate_hz: float) -> None:
        _kernel(self, n_channels, sample_rate_hz)


def _partition_of(n_taps: int) -> tuple[int, int]:
    """Return how many taps are transformed together, and by how many frames the sound moves on each time.

    A short filter in one piece saves what adding the pieces up costs, and moving on by more than its length wastes less
    of each transform: 2.5 times the length is as fast as any that does not hold the sound back much longer.
    """
    if n_taps <= LONGEST_WHOLE_TAPS:
        return n_taps, n_taps + n_taps // 2
    return PARTITION_FRAMES, PARTITION_FRAMES


@dataclass(frozen=True, slots=True, eq=False)
class _Kernel:
    """A filter by partitions: (partitions, 1 or 2, bins) for lanes kept apart, else (partitions, 2, 2, bins)."""

    lanes: Lanes
    spectra: Spectra


@lru_cache(maxsize=KERNELS_KEPT)
def _kernel(spec: FirSpec, n_channels: int, sample_rate_hz: float) -> _Kernel:
    n_taps = spec.n_taps
    sections = spec.sections
    if n_channels == 1:
        sections = tuple((section, "both") for section, channel in sections if channel != "side")
    lanes = lanes_of(channel for _, channel in sections)
    gains = lane_gains(sections, kernel_freqs_hz(n_taps, sample_rate_hz), lanes, sample_rate_hz=sample_rate_hz)
    kernel = linear_phase_kernel(gains, n_taps)
    size, step = _partition_of(n_taps)
    parts = kernel.reshape(*kernel.shape[:-1], n_taps // size, size)
    return _Kernel(lanes, np.ascontiguousarray(np.moveaxis(np.asarray(rfft(parts, size + step, axis=-1)), -2, 0)))


class FirStage:
    """Uniformly partitioned overlap-save; the grid of partitions starts at sample 0 of the stream."""

    def __init__(self, spec: FirSpec, n_channels: int, sample_rate_hz: float) -> None:
        self._rate = sample_rate_hz
        self._n_channels = n_channels
        self._taps = spec.n_taps
        self._before, self._step = _partition_of(self._taps)
        # Kernels in the order in which they came, each with the place (of the sound itself) where it fades in.
        self._kernels: list[tuple[_Kernel, int]] = [(_kernel(spec, n_channels, sample_rate_hz), -(1 << 62))]
        self._history: list[Spectra] = []  # newest first
        self._incoming = np.zeros((n_channels, self._before))  # what a partition reaches back over, then what waits
        self._outgoing = np.zeros((n_channels, 0))
        self._position: int | None = None

    @property
    def latency_frames(self) -> int:
        return self._taps // 2 + self._step

    def retune(self, spec: FirSpec) -> None:
        """Fade to another filter of the same length from the stage's position on."""
        kernel = _kernel(spec, self._n_channels, self._rate)
        if kernel is not self._kernels[-1][0]:
            self._kernels = [*self._kernels, (kernel, -(1 << 62) if self._position is None else self._position)]

    def process(self, x: Array, context: Context) -> Array:
        if self._position is None:
            fill = context.frame % self._step
            self._incoming, self._outgoing = (
                np.zeros((len(x), self._before + fill)),
                np.zeros((len(x), self._step - fill)),
            )
        n = x.shape[1]
        incoming, outgoing = np.concatenate([self._incoming, x], axis=1), [self._outgoing]
        start = context.frame - (self._incoming.shape[1] - self._before)
        done = 0
        size = self._before + self._step
        while incoming.shape[1] - done >= size:
            place = start + done - self._taps // 2
            is_wanted = place + self._step > context.wanted_from
            outgoing.append(self._block(incoming[:, done : done + size], place, is_wanted=is_wanted))
            done += self._step
        self._incoming = incoming[:, done:].copy()
        joined = np.concatenate(outgoing, axis=1)
        self._outgoing = joined[:, n:].copy()
        self._position = context.frame + n
        return joined[:, :n].copy()

    def trace(self) -> Trace | None:
        return None

    def clone(self) -> Self:
        other = sharing_clone(self)  # arrays are replaced, never written into
        other._kernels, other._history = list(self._kernels), list(self._history)
        return other

    def is_finite(self) -> bool:
        return all(bool(np.isfinite(part).all()) for part in (self._incoming, self._outgoing))

    def _block(self, x: Array, place: int, *, is_wanted: bool) -> Array:
        """Return what leaves for a step behind what came before it; `place` is where its first frame belongs in the
        sound.

        What nobody wants is silence: after a change, a filter of many seconds would else be run for all of them again.
        """
        spectrum = np.asarray(rfft(x, axis=1))
        partitions = max(len(kernel.spectra) for kernel, _ in self._kernels)
        self._history = [spectrum, *self._history[: partitions - 1]]
        while len(self._kernels) > 1 and place >= self._kernels[1][1] + FADE_FRAMES:
            self._kernels = self._kernels[1:]
        if not is_wanted:
            return np.zeros((len(x), self._step))
        out = self._convolved(self._kernels[0][0])
        for kernel, fade_place in self._kernels[1:]:
            if place + self._step > fade_place:
                index = np.clip(np.arange(place, place + self._step) - fade_place, -1, FADE_FRAMES)
                weight = np.concatenate([_FADE, [1.0, 0.0]])[index]
                out += weight * (self._convolved(kernel) - out)
        return out

    def _convolved(self, kernel: _Kernel) -> Array:
        pairs = zip(self._history, kernel.spectra, strict=False)
        if kernel.lanes == "crossed":
            total = _summed(part[:, 0] * past[0] + part[:, 1] * past[1] for past, part in pairs)
        elif kernel.lanes == "mid and side":
            total = _sum_and_difference(_summed(part * _sum_and_difference(past) for past, part in pairs)) / 2.0
        else:
            total = _summed(part * past for past, part in pairs)
        return np.asarray(irfft(total, self._before + self._step, axis=1)[:, self._before :])


def _summed(products: Iterator[Spectra]) -> Spectra:
    total = next(products)  # fresh: nobody else's
    for product in products:
        total += product
    return total


def _sum_and_difference(x: Spectra) -> Spectra:
    return np.stack([x[0] + x[1], x[0] - x[1]])
