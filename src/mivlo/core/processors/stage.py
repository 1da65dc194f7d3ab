"""What every stage of a pipeline can do, and how a pipeline is told of stages."""

from abc import ABC, abstractmethod
from collections.abc import Callable, Hashable
from dataclasses import dataclass, field
from typing import Any, Protocol, Self

import numpy as np

from mivlo.core.units import Array

__all__ = ["FORGOTTEN_DB", "Context", "ReadKey", "RestingSpec", "Stage", "StageSpec", "Trace", "no_key"]

FORGOTTEN_DB = 80.0  # what has died away by so much is no longer in a stage's memory

ReadKey = Callable[[str, bool, int, int], Array]
"""(id of what is listened to, after its fader, stream frame, frames) -> (channels, frames): its raw signal."""


def no_key(_: str, __: bool, ___: int, n_frames: int) -> Array:
    """Return silence: what a move hears of a track that is not there."""
    return np.zeros((1, n_frames))


@dataclass(frozen=True, slots=True)
class Context:
    """Where a block stands in the stream, and how to hear other tracks there."""

    frame: int  # of the stage's own input; whole control steps
    read_key: ReadKey = no_key
    wanted_from: int = -(1 << 62)  # frame of the stage's output before which nobody takes it


@dataclass(frozen=True, slots=True)
class Trace:
    """What a move did during a block, for meters and offcuts: one value a step, from `frame` of its output on."""

    frame: int
    step_frames: int
    level_db: Array  # (steps,) of what it listens to
    gain_db: Array  # (steps,) or (steps, bands)
    bands_hz: Array = field(default_factory=lambda: np.zeros(0))


class Stage(Protocol):
    """One way of acting on (channels, n) blocks of whole control steps, the same however they are cut."""

    @property
    def latency_frames(self) -> int:
        """Return how far the output lies behind the input."""

    def process(self, x: Array, context: Context) -> Array:
        """Return the block `latency_frames` later; x may be overwritten."""

    def trace(self) -> Trace | None:
        """Return what was done during the last block, timed by what left the stage."""

    def clone(self) -> Self:
        """Return a stage that goes on from here on its own."""

    def is_finite(self) -> bool:
        """Tell whether every state is a finite number."""


class StageSpec(ABC):
    """What a stage is to be; equal ones need no retuning."""

    key: str

    @abstractmethod
    def structure(self) -> Hashable:
        """Return what cannot change while the stage runs: where it differs, the pipeline is built anew."""

    @abstractmethod
    def make(self, n_channels: int, sample_rate_hz: float) -> Stage:
        """Return a stage at rest."""

    @abstractmethod
    def retune(self, stage: Any) -> None:
        """Let a running stage of the same structure glide to these figures."""

    @abstractmethod
    def memory_s(self, sample_rate_hz: float) -> float:
        """Return for how long what came in goes on to count: until FORGOTTEN_DB of it has died away."""

    def takes_long(self) -> bool:
        """Tell whether `make` and `retune` might take longer than a queue of sound lasts, unless prepared."""
        return False

    def prepare(self, n_channels: int, sample_rate_hz: float) -> None:
        """Compute beforehand what `make` and `retune` would take long for; from any thread."""
        return

    def listens_to(self) -> str:
        """Return the id of the track or group that it listens to, or nothing for its own."""
        return ""


@dataclass(frozen=True, slots=True)
class RestingSpec(StageSpec):
    """A stage that runs without acting, to be there at once when it is wanted; nobody waits for its memory."""

    inner: StageSpec

    @property
    def key(self) -> str:  # type: ignore[override]
        """Return the key of what rests."""
        return self.inner.key

    def structure(self) -> Hashable:
        return self.inner.structure()

    def make(self, n_channels: int, sample_rate_hz: float) -> Stage:
        return self.inner.make(n_channels, sample_rate_hz)

    def retune(self, stage: Any) -> None:
        self.inner.retune(stage)

    def memory_s(self, sample_rate_hz: float) -> float:
        return 0.0

    def takes_long(self) -> bool:
        return self.inner.takes_long()

    def prepare(self, n_channels: int, sample_rate_hz: float) -> None:
        self.inner.prepare(n_channels, sample_rate_hz)

    def listens_to(self) -> str:
        return self.inner.listens_to()
