"""A filter whose gain follows the level of a band: its own, or another track's."""

from dataclasses import dataclass
from typing import Literal, Self

import numpy as np

from mivlo.core import kernels
from mivlo.core.channel import Channel, lane_of, put_lane_back
from mivlo.core.cloning import sharing_clone
from mivlo.core.filters.biquad import Biquad, decay_s
from mivlo.core.kernels import CONTROL_FRAMES, SUBSTEP_FRAMES
from mivlo.core.processors.broad import Broad, BroadFilter
from mivlo.core.processors.chain import GLIDE_S, Chain, KeyedSection
from mivlo.core.processors.stage import FORGOTTEN_DB, Context, StageSpec, Trace
from mivlo.core.units import Array

__all__ = [
    "Blend",
    "DynamicFigures",
    "DynamicSpec",
    "DynamicStage",
    "GainTable",
    "Trigger",
    "gain_figures",
    "lookahead_frames",
]

Trigger = Literal["above", "after-stroke", "sudden"]
TRIGGERS: tuple[Trigger, ...] = ("above", "after-stroke", "sudden")  # in the kernel's order
SILENCE_POWER = 1e-15
SMOOTHING_S = 0.010  # of RMS detection: 10 ms, or a period of the band where that is longer
GLIDE_STEPS = 32  # of the control grid: 43 ms at 48 kHz for figures that are changed
SWITCH_S = 0.010
TABLE_STEP_DB = 1.0
# A stroke: within STROKE_RISE_S the level of the band has grown by STROKE_RISE_DB (our choice, docs/method.md).
STROKE_RISE_S, STROKE_RISE_DB = 0.012, 6.0
# A burst: over the running level by BURST_OVER_DB, and up from three tenths to nine tenths of its height within
# BURST_RISE_S. A sung note of 60 ms onset takes 25 ms and more for that; a plosive under 12 ms.
BURST_OVER_DB, BURST_RISE_S, BURST_SETTLE_S, BURST_LONGEST_S = 9.0, 0.015, 0.014, 0.18
LOWER_RISE, UPPER_RISE = 0.3, 0.9


@dataclass(frozen=True, slots=True)
class DynamicFigures:
    """All that decides the gain of a dynamic stage."""

    threshold_db: float
    ratio: float
    knee_db: float
    depth_db: float
    rest_db: float
    attack_ms: float
    release_ms: float
    lookahead_ms: float
    rms: bool
    trigger: Trigger
    stroke_ms: float
    listens_to: str
    listens_after_fader: bool
    detector_hz: float
    on: bool
    channel: Channel
    share: float = 1.0  # of the gain that it comes to


@dataclass(frozen=True, slots=True)
class Blend:
    """A filter that is mixed with what it is made from: sections at their full extent, and their gain there."""

    sections: tuple[Biquad, ...]
    full_db: float


@dataclass(frozen=True, slots=True, eq=False)
class GainTable:
    """Sections as (g, k, m0, m1, m2) at every whole dB from lowest_db on: (gains, sections, 5)."""

    lowest_db: float
    values: Array

    @property
    def highest_db(self) -> float:
        """Return the gain of the last row."""
        return self.lowest_db + TABLE_STEP_DB * (len(self.values) - 1)


@dataclass(frozen=True, slots=True)
class DynamicSpec(StageSpec):
    """A dynamic move as a stage: figures, the detector's sections, and what is done at every gain.

    With a blend, what it listens to in itself is what the blend takes away, so that one detector section does. The
    last section takes one frame in `stride`, and is made for that rate.
    """

    key: str
    figures: DynamicFigures
    detector: tuple[Biquad, ...]
    stride: int
    shape: Blend | GainTable | Broad
    sample_rate_hz: float

    def structure(self) -> tuple[str, int, str, bool, int]:
        figures = self.figures
        latency = lookahead_frames(figures.lookahead_ms, sample_rate_hz=self.sample_rate_hz)
        return self.key, latency, figures.channel, bool(figures.listens_to), len(self.detector)

    def make(self, n_channels: int, sample_rate_hz: float) -> "DynamicStage":
        return DynamicStage(self, n_channels, sample_rate_hz)

    def retune(self, stage: "DynamicStage") -> None:
        stage.retune(self)

    def memory_s(self, sample_rate_hz: float) -> float:
        """Return the slower of the filters and of the gain behind the level's detection."""
        figures, time_constants = self.figures, FORGOTTEN_DB / 20.0 * np.log(10.0)
        sections = (*self.detector, *(() if isinstance(self.shape, GainTable) else self.shape.sections))
        rates = (sample_rate_hz,) * (len(self.detector) - 1) + (sample_rate_hz / self.stride,)
        rates += (sample_rate_hz,) * (len(sections) - len(self.detector))
        ringing_s = max(
            (
                decay_s(one, fall_db=FORGOTTEN_DB, sample_rate_hz=rate)
                for one, rate in zip(sections, rates, strict=True)
            ),
            default=0.0,
        )
        level_s = max(SMOOTHING_S, 1.0 / figures.detector_hz) * time_constants
        gain_s = max(figures.attack_ms, figures.release_ms) / 1e3 * time_constants
        stroke_s = figures.stroke_ms / 1e3 if figures.trigger == "after-stroke" else BURST_LONGEST_S
        return float(ringing_s + level_s + gain_s + (stroke_s if figures.trigger != "above" else 0.0))

    def listens_to(self) -> str:
        return self.figures.listens_to


def gain_figures(figures: DynamicFigures, *, attack: float, release: float) -> Array:
    """Return what the gain computer's kernel takes, the poles of attack and release among it.

    Source: static curve with soft knee of D. Giannoulis, M. Massberg, J. Reiss, JAES 60(6), 2012, eq. 4; limited to
    the depth, and signed: ours (docs/method.md).
    """
    slope = 1.0 - 1.0 / figures.ratio
    return np.array([figures.threshold_db, slope, figures.knee_db, figures.depth_db, figures.rest_db, attack, release])


def lookahead_frames(lookahead_ms: float, *, sample_rate_hz: float) -> int:
    """Return a look-ahead in whole control steps."""
    return round(lookahead_ms / 1e3 * sample_rate_hz / CONTROL_FRAMES) * CONTROL_FRAMES


class _Blender:
    """Runs a blend: the sections in full on what comes in, mixed in by the gain on what goes out."""

    def __init__(self, blend: Blend, n_lanes: int, latency: int, sample_rate_hz: float) -> None:
        self._chain = Chain(n_lanes, sample_rate_hz, _keyed(blend))
        self._waiting = np.zeros((n_lanes, latency))
        self._pole = 1.0 - np.exp(-SUBSTEP_FRAMES / (GLIDE_S * sample_rate_hz))
        self._full = np.full(4, _added(blend.full_db))  # gliding in three stages, as the chain's figures do

    def retune(self, blend: Blend) -> None:
        self._chain.set_sections(_keyed(blend))
        self._full[3] = _added(blend.full_db)
        if self._full[2] * self._full[3] < 0.0:  # from a dip to a lift: on the way lies 0 dB, a part of nothing
            self._full[:3] = self._full[3]

    def take_in(self, lanes: Array) -> tuple[Array, Array]:
        """Return what the detector hears: a minuend and a subtrahend."""
        treated = lanes.copy()
        self._chain.process(treated)
        self._waiting = np.concatenate([self._waiting, treated], axis=1) if self._waiting.shape[1] else treated
        return treated, lanes

    @property
    def heard_scale(self) -> float:
        """Return by what power the detector's reading is to be multiplied: 0 dB for a tone in the middle of the
        band."""
        return float(1.0 / max(self._full[3] ** 2, 1e-12))

    def act(self, lanes: Array, gains_db: Array) -> None:
        kernels.dynamic_band.blend(lanes, self._waiting[:, : lanes.shape[1]], gains_db, self._pole, self._full)
        self._waiting = self._waiting[:, lanes.shape[1] :].copy()

    def clone(self) -> Self:
        other = sharing_clone(self)
        other._chain, other._full = self._chain.clone(), self._full.copy()
        return other

    def is_finite(self) -> bool:
        return self._chain.is_finite()


def _keyed(blend: Blend) -> list[KeyedSection]:
    return [KeyedSection(str(index), section) for index, section in enumerate(blend.sections)]


def _added(full_db: float) -> float:
    return float(10.0 ** (full_db / 20.0) - 1.0)


class _Slider:
    """Runs a table of gains; figures that are changed glide from one table to the other."""

    heard_scale = 1.0

    def __init__(self, table: GainTable, n_lanes: int) -> None:
        self._table, self._old, self._done = table, table.values, GLIDE_STEPS
        self._state = np.zeros((table.values.shape[1], 2, 2))

    def retune(self, table: GainTable) -> None:
        lowest, highest = min(table.lowest_db, self._table.lowest_db), max(table.highest_db, self._table.highest_db)
        old = _resampled(self._blended(), self._table.lowest_db, lowest, highest)
        new = _resampled(table.values, table.lowest_db, lowest, highest)
        if old.shape[1] > new.shape[1]:
            new = np.concatenate([new, _wires_like(old[:, new.shape[1] :])], axis=1)
        elif old.shape[1] < new.shape[1]:
            self._state = np.concatenate([self._state, np.zeros((new.shape[1] - old.shape[1], 2, 2))])
            old = np.concatenate([old, _wires_like(new[:, old.shape[1] :])], axis=1)
        self._old, self._table = old, GainTable(lowest, new)
        self._done = GLIDE_STEPS if np.array_equal(old, new) else 0

    def take_in(self, lanes: Array) -> tuple[Array, Array]:
        return lanes, np.zeros_like(lanes)

    def act(self, lanes: Array, gains_db: Array) -> None:
        done = 0
        while done < lanes.shape[1]:
            count = CONTROL_FRAMES if self._done < GLIDE_STEPS else lanes.shape[1] - done
            first, last = done // SUBSTEP_FRAMES, (done + count) // SUBSTEP_FRAMES
            kernels.dynamic_band.run_table(
                lanes[:, done : done + count], gains_db[first : last + 1], self._table.lowest_db, TABLE_STEP_DB,
                self._blended(), self._state,
            )  # fmt: skip
            self._done = min(self._done + 1, GLIDE_STEPS)
            done += count

    def clone(self) -> Self:
        other = sharing_clone(self)
        other._state = self._state.copy()
        return other

    def is_finite(self) -> bool:
        return bool(np.isfinite(self._state).all())

    def _blended(self) -> Array:
        if self._done >= GLIDE_STEPS:
            return self._table.values
        weight = 0.5 - 0.5 * np.cos(np.pi * self._done / GLIDE_STEPS)
        return np.asarray(self._old + weight * (self._table.values - self._old))


def _wires_like(sections: Array) -> Array:
    """Return sections of the same states that pass everything."""
    wires = sections.copy()
    wires[..., 2:] = (1.0, 0.0, 0.0)
    return wires


class DynamicStage:
    """Detector, gain computer and filter; the look-ahead is the stage's latency."""

    def __init__(self, spec: DynamicSpec, n_channels: int, sample_rate_hz: float) -> None:
        figures = spec.figures
        # One channel alone has no side: the move then does nothing.
        self._acts = n_channels == 2 or figures.channel != "side"
        n_lanes = 2 if n_channels == 2 and figures.channel == "both" else 1
        self._steps_per_s = sample_rate_hz / SUBSTEP_FRAMES
        self._latency = lookahead_frames(figures.lookahead_ms, sample_rate_hz=sample_rate_hz)
        self._first_section = Chain(2 if figures.listens_to else n_lanes, sample_rate_hz, _first_of(spec.detector))
        self._switch_steps = max(1, round(SWITCH_S * self._steps_per_s))
        self._edge_db = figures.rest_db if figures.on else 0.0
        self._delay = np.zeros((n_channels, self._latency))
        self._trace: Trace | None = None
        self._figures = figures
        self._filter: _Blender | _Slider | BroadFilter
        if isinstance(spec.shape, Blend):
            self._filter = _Blender(spec.shape, n_lanes, self._latency, sample_rate_hz)
        elif isinstance(spec.shape, Broad):
            self._filter = BroadFilter(spec.shape, n_lanes, sample_rate_hz)
        else:
            self._filter = _Slider(spec.shape, n_lanes)
        self._share = np.array([figures.share])
        self._set_figures(spec)
        at = self._switch_steps if figures.on else 0
        self._memory = kernels.dynamic_band.Memory(
            section=np.zeros((2, 2)),
            smooth=np.zeros(1),
            levels=np.full(self._n_levels, SILENCE_POWER),
            left=np.zeros(2, dtype=np.int64),
            gain=np.array([figures.rest_db]),
            switch=np.array([at, at, self._switch_steps], dtype=np.int64),
        )

    @property
    def latency_frames(self) -> int:
        return self._latency

    def retune(self, spec: DynamicSpec) -> None:
        """Glide to other figures of the same structure."""
        self._filter.retune(spec.shape)  # type: ignore[arg-type]  # a move's kind never changes its shape's
        self._figures = spec.figures
        self._first_section.set_sections(_first_of(spec.detector))
        self._set_figures(spec)
        self._memory.switch[1] = self._switch_steps if spec.figures.on else 0
        levels = self._memory.levels
        grown = self._n_levels - len(levels)
        levels = np.concatenate([np.full(grown, levels[0]), levels]) if grown > 0 else levels[-grown:].copy()
        self._memory = self._memory._replace(levels=levels)

    @property
    def _n_levels(self) -> int:
        """Return how many levels are looked at together with the newest."""
        return int(self._measure.back + self._measure.ahead + self._measure.window - 1)

    def process(self, x: Array, context: Context) -> Array:
        figures = self._figures
        lanes = np.ascontiguousarray(lane_of(x, figures.channel))
        heard, less = self._filter.take_in(lanes)
        scale = self._filter.heard_scale
        if figures.listens_to:
            key = context.read_key(figures.listens_to, figures.listens_after_fader, context.frame, x.shape[1])
            # A key is heard in the mid or the side where the move acts on that, else in all its channels.
            key = lane_of(key, figures.channel) if figures.channel in ("mid", "side") else key
            heard = np.array([key[0], key[-1]])
            less, scale = np.zeros_like(heard), 1.0
        if self._first_section.n_sections:
            heard = heard - less
            self._first_section.process(heard)
            less = np.zeros_like(heard)
        n_steps = x.shape[1] // SUBSTEP_FRAMES
        level_db, gains_db = np.empty(n_steps), np.empty(n_steps + 1)
        gains_db[0] = self._edge_db
        kernels.dynamic_band.detect(
            heard, less, scale, self._measure, self._gate, self._gain_figures, self._memory, level_db, gains_db
        )
        self._scale_by_share(gains_db[1:])
        self._edge_db = float(gains_db[-1])
        if self._latency:
            delayed = np.concatenate([self._delay, x], axis=1)
            self._delay = delayed[:, x.shape[1] :].copy()
            x = np.ascontiguousarray(delayed[:, : x.shape[1]])
        if self._acts:
            before = lane_of(x, figures.channel)
            after = x if before is x else np.ascontiguousarray(before).copy()
            self._filter.act(after, gains_db)
            if after is not x:
                put_lane_back(x, figures.channel, before, after)
        self._trace = Trace(context.frame - self._latency, SUBSTEP_FRAMES, level_db, gains_db[1:])
        return x

    def _scale_by_share(self, gains_db: Array) -> None:
        """Take the wanted share of gains (steps,), gliding to it."""
        goal = self._figures.share
        if self._share[0] == goal == 1.0:
            return
        shares = np.empty(len(gains_db))
        kernels.broad_gain.glided(self._share, goal, 1.0 - np.exp(-1.0 / (GLIDE_S * self._steps_per_s)), shares)
        gains_db *= shares

    def trace(self) -> Trace | None:
        return self._trace

    def gains_with(self, threshold_db: float, level_db: Array) -> Array:
        """Return (steps,) what the gain would do on levels (steps,), one of each in SUBSTEP_FRAMES, with another
        threshold."""
        figures, gains_db = self._gain_figures.copy(), np.empty(len(level_db))
        figures[0] = threshold_db
        kernels.dynamic_band.gain_steps(
            level_db, np.zeros(len(level_db), dtype=bool), figures, np.array([self._figures.rest_db]), gains_db
        )
        return gains_db

    def clone(self) -> Self:
        other = sharing_clone(self)
        other._filter, other._first_section = self._filter.clone(), self._first_section.clone()
        other._share = self._share.copy()
        # The rest is replaced, never written into.
        other._memory = kernels.dynamic_band.Memory(*(values.copy() for values in self._memory))
        return other

    def is_finite(self) -> bool:
        return self._filter.is_finite() and all(bool(np.isfinite(values).all()) for values in self._memory)

    def _set_figures(self, spec: DynamicSpec) -> None:
        figures, steps = spec.figures, self._steps_per_s
        last = spec.detector[-1]
        smoothing_s = max(SMOOTHING_S, 1.0 / figures.detector_hz)
        self._measure = kernels.dynamic_band.Measure(
            stride=spec.stride,
            coefs=np.array([last.b0, last.b1, last.b2, last.a1, last.a2]),
            use_rms=figures.rms,
            smoothing=float(1.0 - np.exp(-1.0 / (smoothing_s * steps))),
            # The highest of half a period of the band: a steady tone then reads steadily, without ripple.
            window=max(1, int(np.ceil(0.5 / figures.detector_hz * steps))),
            back=round(BURST_RISE_S * 3 * steps),
            ahead=self._latency // SUBSTEP_FRAMES,
        )
        attack = 1.0 - np.exp(-1e3 / (figures.attack_ms * steps))
        release = 1.0 - np.exp(-1e3 / (figures.release_ms * steps))
        self._gain_figures = gain_figures(figures, attack=attack, release=release)
        threshold = 10.0 ** (figures.threshold_db / 10.0)
        grown, over = 10.0 ** (STROKE_RISE_DB / 10.0), 10.0 ** (BURST_OVER_DB / 10.0)
        spans_s = (STROKE_RISE_S, figures.stroke_ms / 1e3, BURST_RISE_S, BURST_SETTLE_S, BURST_LONGEST_S)
        self._gate = kernels.dynamic_band.Gate(
            trigger=TRIGGERS.index(figures.trigger),
            limits=np.array([grown, threshold, over, LOWER_RISE, UPPER_RISE]),
            counts=np.array([round(span * steps) for span in spans_s], dtype=np.int64),
        )


def _first_of(detector: tuple[Biquad, ...]) -> list[KeyedSection]:
    """Return the sections before the last one."""
    return [KeyedSection(str(index), section) for index, section in enumerate(detector[:-1])]


def _resampled(values: Array, own_lowest_db: float, lowest_db: float, highest_db: float) -> Array:
    """Return a table stretched to other limits; beyond its own it stays as at its end."""
    wanted = np.arange(lowest_db, highest_db + TABLE_STEP_DB / 2.0, TABLE_STEP_DB)
    index = np.clip(np.round((wanted - own_lowest_db) / TABLE_STEP_DB).astype(int), 0, len(values) - 1)
    return np.asarray(values[index])
