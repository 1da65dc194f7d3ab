"""A gain over all frequencies that follows the level, in place of the sound or on a copy beside it."""

from dataclasses import dataclass
from typing import Self

import numpy as np

from mivlo.core import kernels
from mivlo.core.cloning import sharing_clone
from mivlo.core.filters.biquad import Biquad
from mivlo.core.kernels import SUBSTEP_FRAMES
from mivlo.core.processors.chain import GLIDE_S, Chain, KeyedSection
from mivlo.core.units import Array

__all__ = ["Broad", "BroadFilter"]


@dataclass(frozen=True, slots=True)
class Broad:
    """How much of the sound itself stays, how much of what the gain acted on is added, and what limits that."""

    own: float
    added: float
    limits: tuple[tuple[str, Biquad], ...] = ()

    @property
    def sections(self) -> tuple[Biquad, ...]:
        """Return the sections that limit what is added."""
        return tuple(section for _, section in self.limits)

    def keyed(self) -> list[KeyedSection]:
        """Return them as a chain takes them."""
        return [KeyedSection(key, section) for key, section in self.limits]


class BroadFilter:
    """Runs it; figures that are changed glide."""

    heard_scale = 1.0

    def __init__(self, broad: Broad, n_lanes: int, sample_rate_hz: float) -> None:
        self._chain = Chain(n_lanes, sample_rate_hz, broad.keyed())
        self._pole = 1.0 - np.exp(-SUBSTEP_FRAMES / (GLIDE_S * sample_rate_hz))
        self._weights = np.repeat([[broad.own], [broad.added]], 4, axis=1)

    def retune(self, broad: Broad) -> None:
        self._chain.set_sections(broad.keyed())
        self._weights[:, 3] = broad.own, broad.added

    def take_in(self, lanes: Array) -> tuple[Array, Array]:
        """Return what the detector hears: a minuend and a subtrahend."""
        return lanes, np.zeros_like(lanes)

    def act(self, lanes: Array, gains_db: Array) -> None:
        beside = lanes.copy()
        kernels.broad_gain.scaled(beside, gains_db)
        self._chain.process(beside)
        kernels.broad_gain.mixed(lanes, beside, self._pole, self._weights)

    def clone(self) -> Self:
        other = sharing_clone(self)
        other._chain, other._weights = self._chain.clone(), self._weights.copy()
        return other

    def is_finite(self) -> bool:
        return self._chain.is_finite()
