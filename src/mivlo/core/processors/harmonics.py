"""Harmonics of a band of the sound, added beside it: as far under the band's level whether it is loud or soft.

Source: waveshaping of what is scaled to a fixed level first (C. Roads, The Computer Music Tutorial, 1996, from memory);
the shapes, u·tanh(u) for even and tanh(u) for odd harmonics, and the rest are ours.
"""

from dataclasses import dataclass
from functools import lru_cache
from typing import Literal, Self

import numpy as np

from mivlo.core import kernels
from mivlo.core.channel import Channel, lane_of, put_lane_back
from mivlo.core.cloning import sharing_clone
from mivlo.core.filters.biquad import decay_s
from mivlo.core.filters.matched import plain_cut
from mivlo.core.kernels import CONTROL_FRAMES, SUBSTEP_FRAMES
from mivlo.core.processors.chain import GLIDE_S, Chain, KeyedSection
from mivlo.core.processors.oversampling import Oversampler
from mivlo.core.processors.stage import FORGOTTEN_DB, Context, StageSpec, Trace
from mivlo.core.units import Array, db_to_gain

__all__ = ["HarmonicsFigures", "HarmonicsSpec", "HarmonicsStage", "Side"]

Side = Literal["below", "above"]
CHUNK_FRAMES = 4_096
LATENCY_FRAMES = CONTROL_FRAMES  # of what is made at twice the rate
TOP_HZ = 10_000.0  # the second harmonic of what lies above it is not heard any more
LOWEST_HZ = 20.0
WITHIN_OCTAVES = 2.5  # how far above `hz` the harmonics of what lies below it go on
LEVEL_S = {"below": 0.03, "above": 0.006}
EVEN, ODD = 1.0, 1.0


@dataclass(frozen=True, slots=True)
class HarmonicsFigures:
    """Of which band harmonics are made, and how far under it they are added."""

    side: Side
    hz: float
    amount_db: float
    on: bool
    channel: Channel
    share: float = 1.0  # of the amplitude that is added


@dataclass(frozen=True, slots=True)
class HarmonicsSpec(StageSpec):
    """Harmonics as a stage."""

    key: str
    figures: HarmonicsFigures
    sample_rate_hz: float

    def structure(self) -> tuple[str, Channel, Side]:
        return self.key, self.figures.channel, self.figures.side

    def make(self, n_channels: int, sample_rate_hz: float) -> "HarmonicsStage":
        return HarmonicsStage(self, n_channels, sample_rate_hz)

    def retune(self, stage: "HarmonicsStage") -> None:
        stage.retune(self)

    def memory_s(self, sample_rate_hz: float) -> float:
        bands = (*_band(self.figures, sample_rate_hz), *_kept(self.figures, sample_rate_hz))
        ringing_s = max(
            decay_s(one.section, fall_db=FORGOTTEN_DB, sample_rate_hz=sample_rate_hz) for one in bands if one.on
        )
        return ringing_s + LEVEL_S[self.figures.side] * FORGOTTEN_DB / 10.0 * float(np.log(10.0))


@lru_cache(maxsize=1)
def _of_a_sine() -> tuple[float, float, float]:
    """Return what u·tanh(u) has of a constant, tanh(u) of u itself, and 1 over the RMS of what is left beside that of
    the sine, for a sine u of peak 1."""
    u = np.sin(2.0 * np.pi * (np.arange(4_096) + 0.5) / 4_096)
    mean, first = float(np.mean(u * np.tanh(u))), float(2.0 * np.mean(u * np.tanh(u)))
    left = EVEN * (u * np.tanh(u) - mean) + ODD * (first * u - np.tanh(u))
    return mean, first, float(np.std(u) / np.std(left))


def _cuts(
    lower_hz: float | None, upper_hz: float | None, order: int, sample_rate_hz: float
) -> list[KeyedSection]:  # fmt: skip
    sections = []
    for name, hz, high_pass in (("low", lower_hz, True), ("high", upper_hz, False)):
        if hz is not None and hz < 0.45 * sample_rate_hz:
            cut = plain_cut(hz, order, high_pass=high_pass, sample_rate_hz=sample_rate_hz)
            sections += [KeyedSection(f"{name} {index}", section) for index, section in enumerate(cut)]
    return sections


def _band(figures: HarmonicsFigures, sample_rate_hz: float) -> list[KeyedSection]:
    """Return what lets the band through."""
    if figures.side == "below":
        return _cuts(LOWEST_HZ, figures.hz, 4, sample_rate_hz)
    return _cuts(figures.hz, TOP_HZ, 4, sample_rate_hz)


def _kept(figures: HarmonicsFigures, sample_rate_hz: float) -> list[KeyedSection]:
    """Return what lets harmonics through, but not the tones of differences."""
    if figures.side == "below":
        return _cuts(figures.hz / 2.0, figures.hz * 2.0**WITHIN_OCTAVES, 4, sample_rate_hz)
    return _cuts(figures.hz, None, 4, sample_rate_hz)


class HarmonicsStage:
    """What lies above is bent at twice the rate, and late by the filters for that."""

    def __init__(self, spec: HarmonicsSpec, n_channels: int, sample_rate_hz: float) -> None:
        figures = spec.figures
        self._rate = sample_rate_hz
        self._figures = figures
        self._acts = n_channels == 2 or figures.channel != "side"
        self._lanes = 2 if n_channels == 2 and figures.channel == "both" else 1
        self._twice = figures.side == "above"
        self._pole = 1.0 - np.exp(-SUBSTEP_FRAMES / (GLIDE_S * sample_rate_hz))
        self._level_pole = 1.0 - np.exp(-1.0 / (LEVEL_S[figures.side] * sample_rate_hz * (2 if self._twice else 1)))
        self._band = Chain(self._lanes, sample_rate_hz, _band(figures, sample_rate_hz))
        self._kept = Chain(self._lanes, sample_rate_hz, _kept(figures, sample_rate_hz))
        self._filters = [Oversampler(1, latency_frames=LATENCY_FRAMES) for _ in range(self._lanes)]
        self._power = np.zeros((self._lanes, 1))
        self._waiting = np.zeros((n_channels, self.latency_frames))
        self._amount = np.array([self._goal])

    @property
    def latency_frames(self) -> int:
        return LATENCY_FRAMES if self._twice else 0

    @property
    def _goal(self) -> float:
        figures = self._figures
        return db_to_gain(figures.amount_db) * figures.share * _of_a_sine()[2] if figures.on else 0.0

    def retune(self, spec: HarmonicsSpec) -> None:
        """Glide to other figures."""
        self._figures = spec.figures
        self._band.set_sections(_band(spec.figures, self._rate))
        self._kept.set_sections(_kept(spec.figures, self._rate))

    def process(self, x: Array, context: Context) -> Array:
        n = x.shape[1]
        band = np.ascontiguousarray(lane_of(x, self._figures.channel)).copy()
        came = np.concatenate([self._waiting, x], axis=1)
        dry, self._waiting = np.ascontiguousarray(came[:, :n]), came[:, n:].copy()
        if not self._acts:
            return dry
        self._band.process(band)
        made = np.empty_like(band)
        for lane in range(self._lanes):
            for first in range(0, n, CHUNK_FRAMES):
                last = min(first + CHUNK_FRAMES, n)
                made[lane, first:last] = self._bent(lane, band[lane, first:last])
        self._kept.process(made)
        edges = np.empty(n // SUBSTEP_FRAMES + 1)
        edges[0] = self._amount[0]
        kernels.broad_gain.glided(self._amount, self._goal, self._pole, edges[1:])
        if edges.any():
            weights = np.interp(np.arange(n) / SUBSTEP_FRAMES, np.arange(len(edges)), edges)
            before = lane_of(dry, self._figures.channel)
            put_lane_back(dry, self._figures.channel, before, before + weights * made)
        return dry

    def _bent(self, lane: int, x: Array) -> Array:
        mean, first, _ = _of_a_sine()
        filters = self._filters[lane]
        y = filters.up(x) if self._twice else x
        bent = np.empty_like(y)
        kernels.shaping.harmonics(y, self._power[lane], self._level_pole, EVEN, ODD, mean, first, bent)
        return filters.down(bent) if self._twice else bent

    def trace(self) -> Trace | None:
        return None

    def clone(self) -> Self:
        other = sharing_clone(self)
        other._band, other._kept = self._band.clone(), self._kept.clone()
        other._filters = [one.clone() for one in self._filters]
        other._power, other._amount = self._power.copy(), self._amount.copy()
        return other

    def is_finite(self) -> bool:
        chains = self._band.is_finite() and self._kept.is_finite()
        return chains and bool(np.isfinite(self._power).all()) and all(one.is_finite() for one in self._filters)
