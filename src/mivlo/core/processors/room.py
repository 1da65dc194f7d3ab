"""A room beside the sound: a network of delay lines that feed one another, each losing what the decay says.

Source: J.-M. Jot, A. Chaigne, "Digital delay networks for designing artificial reverberators", AES 90th convention,
1991 (absorption by the length of each line); M. R. Schroeder, "Natural sounding artificial reverberation", JAES 10(3),
1962 (allpasses); both from memory. Lengths and signs are ours.
"""

from dataclasses import dataclass
from typing import Self

import numpy as np

from mivlo.core import kernels
from mivlo.core.channel import Channel, lane_of, put_lane_back
from mivlo.core.cloning import sharing_clone
from mivlo.core.filters.matched import plain_cut
from mivlo.core.kernels import SUBSTEP_FRAMES
from mivlo.core.processors.chain import GLIDE_S, Chain, KeyedSection
from mivlo.core.processors.stage import FORGOTTEN_DB, Context, StageSpec, Trace
from mivlo.core.units import Array, db_to_gain

__all__ = ["MOST_PREDELAY_MS", "RoomFigures", "RoomSpec", "RoomStage"]

MOST_PREDELAY_MS = 250.0
# Apart from one another as primes are, so that no two lines ring together.
LINES_MS = (9.1, 10.8, 12.0, 14.5, 16.2, 18.9, 22.5, 25.4, 29.7, 33.3, 40.3, 46.1, 52.8, 62.9, 70.8, 82.8)
ALLPASSES_MS = ((1.9, 3.1, 5.3, 7.9, 11.3), (2.3, 3.7, 4.9, 8.3, 12.1))
ALLPASS_GAIN = 0.7
# Signs of no regular order; those of the two sides are orthogonal, so that the sides are unrelated.
INTO = (1, -1, 1, 1, -1, -1, 1, -1, -1, 1, -1, -1, 1, 1, 1, -1)
OUT_OF = (
    (1, 1, -1, 1, 1, -1, -1, 1, -1, 1, 1, 1, -1, -1, 1, -1),
    (1, -1, -1, -1, 1, 1, -1, -1, -1, -1, 1, -1, -1, 1, 1, 1),
)
DECAYED = 6.0 * np.log(10.0)  # of energy in its T60, in nepers


@dataclass(frozen=True, slots=True)
class RoomFigures:
    """All that decides how a room sounds."""

    decay_s: float
    predelay_ms: float
    low_cut_hz: float | None
    damping_hz: float | None
    wet_db: float
    width: float  # 0 to 1
    only: bool  # nothing of the sound itself is left
    on: bool
    channel: Channel
    share: float = 1.0  # of the amplitude that is added


@dataclass(frozen=True, slots=True)
class RoomSpec(StageSpec):
    """A room as a stage."""

    key: str
    figures: RoomFigures
    sample_rate_hz: float

    def structure(self) -> tuple[str, Channel]:
        return self.key, self.figures.channel

    def make(self, n_channels: int, sample_rate_hz: float) -> "RoomStage":
        return RoomStage(self, n_channels, sample_rate_hz)

    def retune(self, stage: "RoomStage") -> None:
        stage.retune(self)

    def memory_s(self, sample_rate_hz: float) -> float:
        figures = self.figures
        return figures.predelay_ms / 1e3 + figures.decay_s * FORGOTTEN_DB / 60.0 + LINES_MS[-1] / 1e3


class RoomStage:
    """Without latency: the sound itself is passed as it comes."""

    def __init__(self, spec: RoomSpec, n_channels: int, sample_rate_hz: float) -> None:
        figures = spec.figures
        self._rate = sample_rate_hz
        self._figures = figures
        self._acts = n_channels == 2 or figures.channel != "side"
        self._lanes = 2 if n_channels == 2 and figures.channel == "both" else 1
        self._pole = 1.0 - np.exp(-SUBSTEP_FRAMES / (GLIDE_S * sample_rate_hz))
        self._line_frames = _frames(LINES_MS, sample_rate_hz)
        self._allpass_frames = np.array([_frames(one, sample_rate_hz) for one in ALLPASSES_MS])
        self._into = np.array(INTO) / np.sqrt(len(INTO) / 2.0) / np.sqrt(2.0)
        self._out_of = np.array(OUT_OF) / np.sqrt(len(INTO))
        self._low_cut = Chain(2, sample_rate_hz, self._low_cut_sections(figures))
        most = round(MOST_PREDELAY_MS / 1e3 * sample_rate_hz) + SUBSTEP_FRAMES
        delay = self._predelay_frames(figures)
        n_allpasses = self._allpass_frames.shape[1]
        self._own = np.array([self._own_goal])
        self._memory = kernels.room.Memory(
            before=np.zeros((2, most)),
            at=np.zeros(1 + 2 * n_allpasses + len(LINES_MS), dtype=np.int64),
            delays=np.array([delay, delay, delay, 0]),
            diffused=np.zeros((2, n_allpasses, int(self._allpass_frames.max()))),
            lines=np.zeros((len(LINES_MS), int(self._line_frames.max()))),
            absorbed=np.zeros(len(LINES_MS)),
            now=self._absorption(figures),
            wanted=self._absorption(figures),
            wet=np.repeat(self._wet(figures)[:, None], 3, axis=1),
        )

    @property
    def latency_frames(self) -> int:
        return 0

    def retune(self, spec: RoomSpec) -> None:
        """Glide to other figures."""
        self._figures = spec.figures
        self._low_cut.set_sections(self._low_cut_sections(spec.figures))
        self._memory.delays[2] = self._predelay_frames(spec.figures)
        self._memory.wanted[:] = self._absorption(spec.figures)
        self._memory.wet[:, 2] = self._wet(spec.figures)

    def process(self, x: Array, context: Context) -> Array:
        if not self._acts:
            return x
        before = lane_of(x, self._figures.channel)
        heard = np.ascontiguousarray(np.broadcast_to(before, (2, x.shape[1])))
        heard = heard.copy() if heard is before or heard.base is not None else heard
        self._low_cut.process(heard)
        after = before.copy()
        self._scale_own(after)
        kernels.room.run(
            after, heard, self._memory, self._allpass_frames, ALLPASS_GAIN, self._line_frames, self._into,
            self._out_of, self._pole,
        )  # fmt: skip
        put_lane_back(x, self._figures.channel, before, after)
        return x

    def trace(self) -> Trace | None:
        return None

    def clone(self) -> Self:
        other = sharing_clone(self)
        other._low_cut, other._own = self._low_cut.clone(), self._own.copy()
        other._memory = kernels.room.Memory(*(values.copy() for values in self._memory))
        return other

    def is_finite(self) -> bool:
        memory = self._memory
        return all(bool(np.isfinite(part).all()) for part in (memory.lines, memory.absorbed, memory.diffused))

    def _scale_own(self, x: Array) -> None:
        """Fade the sound itself out or in, a step of the grid at a time."""
        if self._own[0] == self._own_goal:
            x *= self._own_goal
            return
        edges = np.empty(x.shape[1] // SUBSTEP_FRAMES + 1)
        edges[0] = self._own[0]
        kernels.broad_gain.glided(self._own, self._own_goal, self._pole, edges[1:])
        x *= np.interp(np.arange(x.shape[1]) / SUBSTEP_FRAMES, np.arange(len(edges)), edges)

    @property
    def _own_goal(self) -> float:
        return 0.0 if self._figures.only and self._figures.on else 1.0

    def _predelay_frames(self, figures: RoomFigures) -> int:
        return round(figures.predelay_ms / 1e3 * self._rate)

    def _low_cut_sections(self, figures: RoomFigures) -> list[KeyedSection]:
        if figures.low_cut_hz is None:
            return []
        sections = plain_cut(figures.low_cut_hz, 2, high_pass=True, sample_rate_hz=self._rate)
        return [KeyedSection(str(index), section) for index, section in enumerate(sections)]

    def _absorption(self, figures: RoomFigures) -> Array:
        """Return (lines, 2) gain and pole: what each line loses is as much as its length of the decay."""
        loss_db = 60.0 * self._line_frames / (figures.decay_s * self._rate)
        gains = 10.0 ** (-loss_db / 20.0)
        poles = np.zeros_like(gains)
        if figures.damping_hz is not None:
            # There it dies away in half the time: |H|² of the pole alone is as small as the loss once more.
            wanted = 10.0 ** (-loss_db / 10.0)
            cos = np.cos(2.0 * np.pi * min(figures.damping_hz, 0.49 * self._rate) / self._rate)
            # (1 - p)² = wanted·(1 - 2·p·cos + p²), for p below 1.
            half = (1.0 - wanted * cos) / (1.0 - wanted)
            poles = half - np.sqrt(half**2 - 1.0)
        return np.stack([gains, poles], axis=1)

    def _wet(self, figures: RoomFigures) -> Array:
        """Return (4,) weights: at 0 dB the room has the energy of the sound that it is beside."""
        energy = figures.decay_s * self._rate / (DECAYED * float(self._line_frames.sum()))
        gain = db_to_gain(figures.wet_db) * figures.share / np.sqrt(energy) if figures.on else 0.0
        if self._lanes == 1:
            return np.array([gain, 0.0, 0.0, 0.0])
        side = figures.width
        middle = np.sqrt(2.0 - side**2)  # of the power that the sides lose
        return gain * 0.5 * np.array([middle + side, middle - side, middle - side, middle + side])


def _frames(lengths_ms: tuple[float, ...], sample_rate_hz: float) -> np.ndarray:
    """Return lengths in whole frames, odd, so that fewer of their multiples meet."""
    return np.array([2 * int(ms / 1e3 * sample_rate_hz / 2.0) + 1 for ms in lengths_ms], dtype=np.int64)
