"""A stage that acts at some times only: at their edges it fades over to the sound as it came, and back."""

from collections.abc import Callable, Hashable
from dataclasses import dataclass
from typing import Self

import numpy as np

from mivlo.core.cloning import sharing_clone
from mivlo.core.processors.stage import Context, Stage, StageSpec, Trace
from mivlo.core.units import Array

__all__ = ["EDGE_S", "ReadWeights", "Spans", "TimedSpec", "weights_of"]

EDGE_S = 0.02  # outside the times: within them the move acts in full

Spans = tuple[tuple[float, float], ...]
"""Stretches of the session in seconds, in order and apart."""
ReadWeights = Callable[[Spans, int, int], Array]
"""(spans, stream frame, frames) -> (frames,) from 0 to 1, as the session runs in the stream."""


def weights_of(spans: Spans, first: int, n_frames: int, *, sample_rate_hz: float) -> Array:
    """Return (n_frames,): 1 within the spans, 0 outside, a raised cosine of EDGE_S before and after each.

    Raises
    ------
    Nothing.
    """
    time_s = (first + np.arange(n_frames)) / sample_rate_hz
    weights = np.zeros(n_frames)
    for start_s, end_s in spans:
        away_s = np.maximum(start_s - time_s, time_s - end_s)
        weights = np.maximum(weights, 0.5 + 0.5 * np.cos(np.pi * np.clip(away_s / EDGE_S, 0.0, 1.0)))
    return weights


@dataclass(frozen=True, slots=True)
class TimedSpec(StageSpec):
    """Another stage, and when it acts."""

    inner: StageSpec
    spans: Spans
    read_weights: ReadWeights

    @property
    def key(self) -> str:  # type: ignore[override]
        """Return the key of what is timed."""
        return self.inner.key

    def structure(self) -> Hashable:
        return self.inner.structure(), self.spans

    def make(self, n_channels: int, sample_rate_hz: float) -> "TimedStage":
        return TimedStage(self, self.inner.make(n_channels, sample_rate_hz), n_channels)

    def retune(self, stage: "TimedStage") -> None:
        self.inner.retune(stage.inner)

    def memory_s(self, sample_rate_hz: float) -> float:
        return self.inner.memory_s(sample_rate_hz)

    def takes_long(self) -> bool:
        return self.inner.takes_long()

    def prepare(self, n_channels: int, sample_rate_hz: float) -> None:
        self.inner.prepare(n_channels, sample_rate_hz)

    def listens_to(self) -> str:
        return self.inner.listens_to()


class TimedStage:
    """Runs its inner stage all the time, so that it stands in the same state wherever play began."""

    def __init__(self, spec: TimedSpec, inner: Stage, n_channels: int) -> None:
        self.inner = inner
        self._spec = spec
        self._waiting = np.zeros((n_channels, inner.latency_frames))
        self._last: tuple[int, Array] = (0, np.zeros(0))

    @property
    def latency_frames(self) -> int:
        return self.inner.latency_frames

    def process(self, x: Array, context: Context) -> Array:
        n = x.shape[1]
        came = np.concatenate([self._waiting, x], axis=1)
        dry, self._waiting = came[:, :n], came[:, n:].copy()
        wet = self.inner.process(x.copy(), context)
        place = context.frame - self.latency_frames
        weights = self._spec.read_weights(self._spec.spans, place, n)
        self._last = (place, weights)
        return np.asarray(dry + weights * (wet - dry))

    def trace(self) -> Trace | None:
        trace = self.inner.trace()
        if trace is None or not len(self._last[1]):
            return trace
        place, weights = self._last
        steps = trace.frame - place + trace.step_frames * np.arange(len(trace.gain_db))
        at = weights[np.clip(steps, 0, len(weights) - 1)]
        gain_db = trace.gain_db * (at if trace.gain_db.ndim == 1 else at[:, None])
        return Trace(trace.frame, trace.step_frames, trace.level_db, gain_db, trace.bands_hz)

    def clone(self) -> Self:
        other = sharing_clone(self)  # arrays are replaced, never written into
        other.inner = self.inner.clone()
        return other

    def is_finite(self) -> bool:
        return self.inner.is_finite() and bool(np.isfinite(self._waiting).all())
