"""A soft clipper: the sound, driven against a ceiling, at several times the rate.

Source: memoryless tanh with oversampling, as usual in the literature on distortion (J. Smith, Physical Audio Signal
Processing, from memory); how much oversampling is enough was measured (docs/method.md).
"""

from dataclasses import dataclass
from typing import Self

import numpy as np

from mivlo.core import kernels
from mivlo.core.channel import Channel, lane_of, put_lane_back
from mivlo.core.cloning import sharing_clone
from mivlo.core.kernels import CONTROL_FRAMES, SUBSTEP_FRAMES
from mivlo.core.processors.chain import GLIDE_S
from mivlo.core.processors.oversampling import Oversampler
from mivlo.core.processors.stage import Context, StageSpec, Trace
from mivlo.core.units import Array, db_to_gain

__all__ = ["DriveFigures", "DriveSpec", "DriveStage", "doublings_at"]

LATENCY_FRAMES = 2 * CONTROL_FRAMES
CHUNK_FRAMES = 2_048  # what is made of it at eight times the rate stays near
MEMORY_S = 0.01


@dataclass(frozen=True, slots=True)
class DriveFigures:
    """How far it is driven, against what, and how much of that is heard."""

    drive_db: float
    ceiling_dbfs: float
    on: bool
    channel: Channel
    share: float = 1.0  # of the driven sound; the rest is the sound itself

    @property
    def wet(self) -> float:
        """Return how much of the driven sound is heard; none where it is not driven."""
        return self.share if self.on and self.drive_db > 0.0 else 0.0


@dataclass(frozen=True, slots=True)
class DriveSpec(StageSpec):
    """A soft clipper as a stage."""

    key: str
    figures: DriveFigures
    sample_rate_hz: float

    def structure(self) -> tuple[str, Channel]:
        return self.key, self.figures.channel

    def make(self, n_channels: int, sample_rate_hz: float) -> "DriveStage":
        return DriveStage(self, n_channels, sample_rate_hz)

    def retune(self, stage: "DriveStage") -> None:
        stage.retune(self)

    def memory_s(self, sample_rate_hz: float) -> float:
        return MEMORY_S


def doublings_at(sample_rate_hz: float) -> int:
    """Return how often the rate is doubled, so that it is 350 kHz or more."""
    return max(1, int(np.ceil(np.log2(350_000.0 / sample_rate_hz))))


class DriveStage:
    """Late by its filters; what is not driven is passed as it came, to the bit."""

    def __init__(self, spec: DriveSpec, n_channels: int, sample_rate_hz: float) -> None:
        figures = spec.figures
        self._figures = figures
        self._acts = n_channels == 2 or figures.channel != "side"
        self._lanes = 2 if n_channels == 2 and figures.channel == "both" else 1
        self._pole = 1.0 - np.exp(-SUBSTEP_FRAMES / (GLIDE_S * sample_rate_hz))
        self._factor = 2 ** doublings_at(sample_rate_hz)
        self._filters = [
            Oversampler(doublings_at(sample_rate_hz), latency_frames=LATENCY_FRAMES) for _ in range(self._lanes)
        ]
        self._waiting = np.zeros((n_channels, LATENCY_FRAMES))
        self._gliding = self._goals()

    @property
    def latency_frames(self) -> int:
        return LATENCY_FRAMES

    def retune(self, spec: DriveSpec) -> None:
        """Glide to other figures."""
        self._figures = spec.figures

    def process(self, x: Array, context: Context) -> Array:
        n = x.shape[1]
        came = np.concatenate([self._waiting, x], axis=1)
        dry, self._waiting = np.ascontiguousarray(came[:, :n]), came[:, n:].copy()
        if not self._acts:
            return dry
        heard = np.ascontiguousarray(lane_of(x, self._figures.channel))
        gain, ceiling, wet = self._glided(n // SUBSTEP_FRAMES)
        before = lane_of(dry, self._figures.channel)
        after = before.copy()
        step = SUBSTEP_FRAMES * self._factor
        parts = np.arange(n) / SUBSTEP_FRAMES
        weights = np.interp(parts, np.arange(len(wet)), wet) if np.any(wet != wet[0]) else wet[0]
        for lane, filters in enumerate(self._filters):
            driven = np.empty(n)
            for first in range(0, n, CHUNK_FRAMES):
                last = min(first + CHUNK_FRAMES, n)
                steps = slice(first // SUBSTEP_FRAMES, last // SUBSTEP_FRAMES)
                then = slice(steps.start + 1, steps.stop + 1)
                y = filters.up(heard[lane, first:last])
                kernels.shaping.clip(y, gain[steps], ceiling[steps], gain[then], ceiling[then], step)
                driven[first:last] = filters.down(y)
            if np.any(weights != 0.0):
                after[lane] += weights * (driven - after[lane])
        put_lane_back(dry, self._figures.channel, before, after)
        return dry

    def trace(self) -> Trace | None:
        return None

    def clone(self) -> Self:
        other = sharing_clone(self)
        other._filters = [one.clone() for one in self._filters]
        other._gliding = self._gliding.copy()
        return other

    def is_finite(self) -> bool:
        return bool(np.isfinite(self._waiting).all()) and all(one.is_finite() for one in self._filters)

    def _goals(self) -> Array:
        figures = self._figures
        return np.array([db_to_gain(figures.drive_db), db_to_gain(figures.ceiling_dbfs), figures.wet])

    def _glided(self, n_steps: int) -> Array:
        """Return (3, n_steps + 1) drive, ceiling and how much of it is heard, at the edges of the steps."""
        edges = np.empty((3, n_steps + 1))
        for row, goal in enumerate(self._goals()):
            edges[row, 0] = self._gliding[row]
            kernels.broad_gain.glided(self._gliding[row : row + 1], goal, self._pole, edges[row, 1:])
        return edges
