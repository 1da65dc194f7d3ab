"""The plane: what stands proud of the sound's own outline is taken out, frame by frame."""

from dataclasses import dataclass
from functools import lru_cache
from typing import Self

import numpy as np
from numpy.fft import irfft, rfft
from numpy.typing import NDArray

from mivlo.core import kernels
from mivlo.core.channel import Channel, lane_of, put_lane_back
from mivlo.core.cloning import sharing_clone
from mivlo.core.kernels import FORGETTING
from mivlo.core.processors.stage import FORGOTTEN_DB, Context, StageSpec, Trace
from mivlo.core.units import Array

__all__ = ["PlaneFigures", "PlaneSpec", "PlaneStage"]

FRAME_S = 0.0427  # 2048 frames at 48 kHz
OVERLAP = 2
LOOK_FRAMES = 1  # windows that a decision looks ahead (and back)
WIDEST_OCTAVES, NARROWEST_OCTAVES = 0.5, 1.0 / 16.0
GAP = 2.0  # from a place to where its surroundings begin, in widths
TREND_OCTAVES = 1.0  # each way
EDGE_OCTAVES = 0.1  # over which a limit, or a keeper, fades
TOLERANCE_DB, CHANCE_DB = 0.6, 4.0  # the fewer bins make a level, the more it wavers by chance
KNOWN_DB = 6.0  # more, where the steady faults were learned: what else stands out must do so plainly
LOUD_RANGE_DB = 4.0  # over which the moments begin to be loud
SILENT = 1e-15
NOTHING_DB = 0.01
TRACE_BANDS = 96
SWITCH_STEP = 0.5  # of a window: on and off in 43 ms
Array32 = NDArray[np.float32]
Spectra = NDArray[np.complex64]


@dataclass(frozen=True, slots=True)
class PlaneFigures:
    """All that decides what is shaved."""

    amount: float  # 0 to 1
    narrowness: float  # 0 to 1
    low_hz: float
    high_hz: float
    speed_ms: float
    on: bool
    channel: Channel
    keepers: tuple[tuple[float, float], ...]
    places: tuple[tuple[float, float], ...] = ()  # Hz and dB that each adds to what passes it
    loud_places: tuple[tuple[float, float], ...] = ()  # likewise, but only while the sound is loud
    loud_from_db: float = -24.0  # of the level of a window
    spare: float = 1.0  # 0 to 1: how much plain lines are protected


@dataclass(frozen=True, slots=True)
class PlaneSpec(StageSpec):
    """A plane as a stage."""

    key: str
    figures: PlaneFigures
    sample_rate_hz: float

    def structure(self) -> tuple[str, str]:
        return self.key, self.figures.channel

    def make(self, n_channels: int, sample_rate_hz: float) -> "PlaneStage":
        return PlaneStage(self, n_channels, sample_rate_hz)

    def retune(self, stage: "PlaneStage") -> None:
        stage.retune(self)

    def memory_s(self, sample_rate_hz: float) -> float:
        """Return how long it knows lines by what they usually are, which outlasts its windows and its speed."""
        hop_s = _window_frames(sample_rate_hz) / OVERLAP / sample_rate_hz
        return hop_s / FORGETTING * FORGOTTEN_DB / 20.0 * float(np.log(10.0))


@dataclass(frozen=True, slots=True, eq=False)
class _Bins:
    """What the kernel needs to know of each bin."""

    octave: Array
    low: NDArray[np.int64]
    high: NDArray[np.int64]
    gap_low: NDArray[np.int64]
    gap_high: NDArray[np.int64]
    trend_low: NDArray[np.int64]
    trend_high: NDArray[np.int64]
    tolerance: Array
    edge: Array
    learned: Array
    when_loud: Array
    first: int
    last: int


@lru_cache(maxsize=128)
def _bins(figures: PlaneFigures, size: int, sample_rate_hz: float) -> _Bins:
    n_bins = size // 2 + 1
    index = np.arange(n_bins)
    width = WIDEST_OCTAVES * (NARROWEST_OCTAVES / WIDEST_OCTAVES) ** figures.narrowness
    half, gap = 2.0 ** (width / 2.0), 2.0 ** (GAP * width)
    hz = np.maximum(index * sample_rate_hz / size, 1.0)

    def inside(low_hz: float, high_hz: float) -> Array:
        ramps = [np.log2(hz / low_hz), np.log2(high_hz / hz)]
        return np.asarray(np.prod([np.clip(ramp / EDGE_OCTAVES + 0.5, 0.0, 1.0) for ramp in ramps], axis=0))

    edge = inside(figures.low_hz, figures.high_hz)
    for low_hz, high_hz in figures.keepers:
        # A keeper is left alone as a whole: its fade lies outside it.
        out = 2.0 ** (EDGE_OCTAVES / 2.0)
        edge *= 1.0 - inside(low_hz / out, high_hz * out)
    low = np.maximum(np.minimum(np.floor(index / half), index - 1), 0).astype(np.int64)
    high = np.minimum(np.maximum(np.ceil(index * half), index + 1), n_bins - 1).astype(np.int64)
    # Even to both sides, also near the top.
    reach = np.minimum(2.0**TREND_OCTAVES, (n_bins - 1) / np.maximum(index, 1.0))
    return _Bins(
        trend_low=np.maximum(np.round(index / reach), 0).astype(np.int64),
        trend_high=np.minimum(np.round(index * reach), n_bins - 1).astype(np.int64),
        octave=np.log2(np.maximum(index, 0.5)),
        low=low,
        high=high,
        gap_low=np.maximum(np.minimum(np.floor(index / gap), index - 3), 0).astype(np.int64),
        gap_high=np.maximum(np.ceil(index * gap), index + 3).astype(np.int64),
        tolerance=TOLERANCE_DB
        + CHANCE_DB / np.sqrt(high - low + 1.0)
        + (KNOWN_DB if figures.places or figures.loud_places else 0.0),
        edge=edge,
        learned=_learned(figures.places, hz),
        when_loud=_learned(figures.loud_places, hz),
        first=int(np.flatnonzero(edge)[0]) if edge.any() else 1,
        last=int(np.flatnonzero(edge)[-1]) + 1 if edge.any() else 1,
    )


def _learned(places: tuple[tuple[float, float], ...], hz: Array) -> Array:
    """Return (bins,) dB: straight lines between the places over log Hz, 0 outside them."""
    if not places:
        return np.zeros(len(hz))
    places_hz, added_db = np.array(places).T
    return np.asarray(np.interp(np.log2(hz), np.log2(places_hz), added_db, left=0.0, right=0.0))


def _window_frames(sample_rate_hz: float) -> int:
    return int(1 << round(np.log2(FRAME_S * sample_rate_hz)))


class PlaneStage:
    """Short-time Fourier frames on a grid from sample 0; what is shaved is subtracted, so that nothing shaved is
    bit-true."""

    def __init__(self, spec: PlaneSpec, n_channels: int, sample_rate_hz: float) -> None:
        self._rate = sample_rate_hz
        self._size = _window_frames(sample_rate_hz)
        self._hop = self._size // OVERLAP
        self._window = np.sqrt(np.hanning(self._size + 1)[: self._size]).astype(np.float32)
        self._synthesis = self._window / np.float32(OVERLAP / 2)
        figures = spec.figures
        self._figures = figures
        self._acts = n_channels == 2 or figures.channel != "side"
        self._lanes = 1 if n_channels == 1 or figures.channel != "both" else 2
        n_bins = self._size // 2 + 1
        self._habits = np.zeros((5, n_bins))  # of lines, for the kernel
        self._wet = 1.0 if figures.on else 0.0
        self._past = np.zeros(
            (n_channels, self.latency_frames)
        )  # the sound itself, waiting for what is taken out of it
        self._heard = np.zeros((self._lanes, self._size - self._hop), dtype=np.float32)
        self._incoming = np.zeros((n_channels, 0))
        self._spectra = np.zeros((self._lanes, LOOK_FRAMES, n_bins), dtype=np.complex64)
        self._powers = np.zeros((2 * LOOK_FRAMES, n_bins), dtype=np.float32)
        self._last_cut = np.zeros(n_bins, dtype=np.float32)
        self._overlap = np.zeros((self._lanes, self._size - self._hop), dtype=np.float32)
        self._outgoing = np.zeros((n_channels, 0))
        self._started = False
        self._trace: Trace | None = None
        self._tell = np.unique(np.geomspace(1, n_bins - 1, TRACE_BANDS).astype(int))

    @property
    def latency_frames(self) -> int:
        """Return one window, and the windows that are looked ahead."""
        return int(self._size + LOOK_FRAMES * self._hop)

    def retune(self, spec: PlaneSpec) -> None:
        """Go on with other figures from the next window on; windows overlap, so nothing jumps."""
        self._figures = spec.figures

    def process(self, x: Array, context: Context) -> Array:
        n = x.shape[1]
        if not self._started:
            fill = context.frame % self._hop
            self._started = True
            self._incoming = np.zeros((len(x), fill))
            self._outgoing = np.zeros((len(x), self._hop - fill))
            self._past = np.zeros((len(x), self.latency_frames - self._hop))
        incoming = np.concatenate([self._incoming, x], axis=1)
        n_hops = incoming.shape[1] // self._hop
        self._trace = None  # of a block that ends no window nothing is told, nor what was told of the one before
        if n_hops:
            whole = incoming[:, : n_hops * self._hop]
            joined = np.concatenate([self._past, whole], axis=1)
            self._past = joined[:, whole.shape[1] :].copy()
            done = np.ascontiguousarray(joined[:, : whole.shape[1]])
            frame = context.frame - self._incoming.shape[1] - (self.latency_frames - self._hop)
            self._shave(done, whole, frame)
            self._outgoing = np.concatenate([self._outgoing, done], axis=1)
        self._incoming = incoming[:, n_hops * self._hop :].copy()
        out, self._outgoing = self._outgoing[:, :n].copy(), self._outgoing[:, n:].copy()
        return out

    def trace(self) -> Trace | None:
        return self._trace

    def clone(self) -> Self:
        other = sharing_clone(self)
        other._habits = self._habits.copy()  # the only one that is written into
        return other

    def is_finite(self) -> bool:
        return all(bool(np.isfinite(part).all()) for part in (self._past, self._overlap, self._powers, self._habits))

    def _shave(self, done: Array, whole: Array, frame: int) -> None:
        """Take from `done` (in place) what the windows that end with the hops of `whole` decide."""
        n_hops = whole.shape[1] // self._hop
        heard = np.concatenate([self._heard, lane_of(whole, self._figures.channel).astype(np.float32)], axis=1)
        self._heard = heard[:, n_hops * self._hop :].copy()
        row, frame_bytes = heard.strides
        shape, strides = (self._lanes, n_hops, self._size), (row, frame_bytes * self._hop, frame_bytes)
        windows = np.lib.stride_tricks.as_strided(heard, shape, strides, writeable=False)
        fresh = np.asarray(rfft(windows * self._window, axis=2))
        spectra = np.concatenate([self._spectra, fresh], axis=1)
        self._spectra = spectra[:, n_hops:].copy()
        power = np.mean(fresh.real**2 + fresh.imag**2, axis=0)
        powers = np.concatenate([self._powers, power])
        self._powers = powers[n_hops:].copy()
        cuts_db = self._cuts(powers, n_hops)
        self._tell_trace(cuts_db, frame)
        taken = self._taken(spectra[:, :n_hops], cuts_db)
        if taken is not None and self._acts:
            before = lane_of(done, self._figures.channel)
            put_lane_back(done, self._figures.channel, before, before - taken)

    def _cuts(self, powers: Array32, n_hops: int) -> Array32:
        """Return (n_hops, bins): how many dB are shaved off each bin of each window."""
        figures = self._figures
        hop_ms = 1e3 * self._hop / self._rate
        # Up to a window each way; what is slower than that goes on in one pole.
        reach = np.clip(figures.speed_ms / hop_ms, 0.5, LOOK_FRAMES)
        weights = np.cos(np.pi / 2.0 * np.arange(-LOOK_FRAMES, LOOK_FRAMES + 1) / (reach + 1.0)).clip(0.0) ** 2
        weights = (weights / weights.sum()).astype(np.float32)
        smooth = np.zeros((n_hops, powers.shape[1]), dtype=np.float32)
        for shift, weight in enumerate(weights):
            smooth += weight * powers[shift : shift + n_hops]
        bins = _bins(figures, self._size, self._rate)
        means, cuts_db = np.empty_like(smooth), np.empty_like(smooth)
        kernels.plane_frames.band_means(smooth, bins.low, bins.high, means)
        levels = np.float32(10.0) * np.log10(means)
        kernels.plane_frames.frame_cuts(
            smooth, levels, bins.octave, bins.gap_low, bins.gap_high, bins.trend_low, bins.trend_high, bins.tolerance,
            bins.edge, bins.learned, bins.when_loud, self._loud(powers, n_hops), bins.first, bins.last, figures.amount,
            figures.spare, self._habits, cuts_db,
        )  # fmt: skip
        pole = np.float32(np.exp(-hop_ms / max(figures.speed_ms - LOOK_FRAMES * hop_ms, 1e-3)))
        goal = 1.0 if figures.on else 0.0
        if pole > 0.01:
            for row in cuts_db:
                row += pole * (self._last_cut - row)
                self._last_cut = row.copy()
        if self._wet != goal or goal == 0.0:
            for row in cuts_db:
                self._wet += min(max(goal - self._wet, -SWITCH_STEP), SWITCH_STEP)
                row *= np.float32(self._wet)
        return cuts_db

    def _loud(self, powers: Array32, n_hops: int) -> Array:
        """Return (n_hops,) how far each window is among the loud ones, 0 to 1."""
        if not self._figures.loud_places:
            return np.zeros(n_hops)
        # A full-scale sine fills the window's two halves of the spectrum; its mean square is a half.
        scale = 2.0 / (self._size * float(np.sum(self._window**2)))
        level_db = 10.0 * np.log10(powers[LOOK_FRAMES : LOOK_FRAMES + n_hops].sum(axis=1) * scale + SILENT)
        return np.asarray(
            np.clip((level_db - self._figures.loud_from_db + LOUD_RANGE_DB / 4.0) / LOUD_RANGE_DB, 0.0, 1.0)
        )

    def _taken(self, spectra: Spectra, cuts_db: Array32) -> Array32 | None:
        """Return (lanes, n_hops · hop): what leaves; None where that is nothing at all."""
        n_hops = len(cuts_db)
        active = np.flatnonzero(cuts_db.max(axis=1) > NOTHING_DB)
        if not active.size and not self._overlap.any():
            return None
        total = np.zeros((self._lanes, (n_hops + OVERLAP - 1) * self._hop), dtype=np.float32)
        total[:, : self._overlap.shape[1]] = self._overlap
        if active.size:
            bins = _bins(self._figures, self._size, self._rate)
            # A cut is smoothed into the bins beside it, hence one more each way.
            reach = slice(max(bins.first - 1, 0), bins.last + 1)
            part = 1.0 - np.exp(cuts_db[active, reach] * np.float32(-np.log(10.0) / 20.0))
            shaved = np.zeros((self._lanes, active.size, spectra.shape[2]), dtype=np.complex64)
            np.multiply(spectra[:, active, reach], part, out=shaved[:, :, reach])
            pieces = irfft(shaved, self._size, axis=2)
            pieces *= self._synthesis
            for index, hop in enumerate(active):
                total[:, hop * self._hop : hop * self._hop + self._size] += pieces[:, index]
        self._overlap = total[:, n_hops * self._hop :].copy()
        return total[:, : n_hops * self._hop]

    def _tell_trace(self, cuts_db: Array32, frame: int) -> None:
        hz = self._tell * self._rate / self._size
        gains = -cuts_db[:, self._tell].astype(np.float64)
        # A window acts most in its middle.
        self._trace = Trace(frame + self._size // 2, self._hop, np.zeros(0), gains, hz)
