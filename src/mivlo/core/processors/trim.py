"""The sound louder or softer as a whole."""

from dataclasses import dataclass
from typing import Self

import numpy as np

from mivlo.core import kernels
from mivlo.core.channel import Channel, lane_of, put_lane_back
from mivlo.core.cloning import sharing_clone
from mivlo.core.kernels import SUBSTEP_FRAMES
from mivlo.core.processors.chain import GLIDE_S
from mivlo.core.processors.stage import Context, StageSpec, Trace
from mivlo.core.units import Array

__all__ = ["TrimSpec", "TrimStage"]


@dataclass(frozen=True, slots=True)
class TrimSpec(StageSpec):
    """A gain as a stage."""

    key: str
    gain: float
    channel: Channel

    def structure(self) -> tuple[str, Channel]:
        return self.key, self.channel

    def make(self, n_channels: int, sample_rate_hz: float) -> "TrimStage":
        return TrimStage(self, n_channels, sample_rate_hz)

    def retune(self, stage: "TrimStage") -> None:
        stage.weights[0, 3] = self.gain

    def memory_s(self, sample_rate_hz: float) -> float:
        return 0.0


class TrimStage:
    """Glides from gain to gain."""

    def __init__(self, spec: TrimSpec, n_channels: int, sample_rate_hz: float) -> None:
        self.weights = np.array([[spec.gain] * 4, [0.0] * 4])  # of the sound, and of nothing beside it
        self._channel = spec.channel
        self._acts = n_channels == 2 or spec.channel != "side"
        self._pole = 1.0 - np.exp(-SUBSTEP_FRAMES / (GLIDE_S * sample_rate_hz))

    @property
    def latency_frames(self) -> int:
        return 0

    def process(self, x: Array, context: Context) -> Array:
        if self._acts:
            before = lane_of(x, self._channel)
            after = np.ascontiguousarray(before).copy()
            kernels.broad_gain.mixed(after, after.copy(), self._pole, self.weights)
            put_lane_back(x, self._channel, before, after)
        return x

    def trace(self) -> Trace | None:
        return None

    def clone(self) -> Self:
        other = sharing_clone(self)
        other.weights = self.weights.copy()
        return other

    def is_finite(self) -> bool:
        return bool(np.isfinite(self.weights).all())
