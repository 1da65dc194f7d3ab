"""A filter whose gain follows the level of a band: its own, or another track's."""

from copy import copy
from dataclasses import dataclass
from typing import Literal, Self

import numpy as np

from mivlo.core.channel import Channel, lane_of, put_lane_back
from mivlo.core.filters.biquad import Biquad
from mivlo.core.kernels import dynamic_band as kernel
from mivlo.core.kernels.dynamic_band import SUBSTEP_FRAMES
from mivlo.core.kernels.svf_chain import CONTROL_FRAMES
from mivlo.core.processors.stage import Context, StageSpec, Trace
from mivlo.core.units import Array

__all__ = ["DynamicFigures", "DynamicSpec", "DynamicStage", "GainTable", "Trigger", "lookahead_frames", "static_gain_db"]

Trigger = Literal["above", "after-stroke", "sudden"]
SILENCE_POWER = 1e-15
SMOOTHING_S = 0.010  # of RMS detection: 10 ms, or a period of the band where that is longer
GLIDE_STEPS = 32  # of the control grid: 43 ms at 48 kHz for figures that are changed
SWITCH_S = 0.010
TABLE_STEP_DB = 1.0
# A stroke: within STROKE_RISE_S the level of the band has grown by STROKE_RISE_DB (our choice, docs/method.md).
STROKE_RISE_S, STROKE_RISE_DB = 0.012, 6.0
# A burst: over the running level by BURST_OVER_DB, and up from three tenths to nine tenths of its height within
# BURST_RISE_S. A sung note of 60 ms onset takes 25 ms and more for that; a plosive under 12 ms.
BURST_OVER_DB, BURST_RISE_S, BURST_SETTLE_S, BURST_LONGEST_S = 9.0, 0.018, 0.008, 0.18
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
    """A dynamic move as a stage: figures, the detector's sections, and the filter at every gain."""

    key: str
    figures: DynamicFigures
    detector: tuple[Biquad, Biquad]
    table: GainTable
    sample_rate_hz: float

    def structure(self) -> tuple[str, int, str, int]:
        figures = self.figures
        latency = lookahead_frames(figures.lookahead_ms, sample_rate_hz=self.sample_rate_hz)
        return self.key, latency, figures.channel, self.table.values.shape[1]

    def make(self, n_channels: int, sample_rate_hz: float) -> "DynamicStage":
        return DynamicStage(self, n_channels, sample_rate_hz)

    def retune(self, stage: "DynamicStage") -> None:
        stage.retune(self)

    def listens_to(self) -> str:
        return self.figures.listens_to


def static_gain_db(level_db: Array, figures: DynamicFigures) -> Array:
    """Return the gain that a steady level (n,) leads to.

    Source: static curve with soft knee of D. Giannoulis, M. Massberg, J. Reiss, JAES 60(6), 2012, eq. 4; limited to
    the depth, and signed: ours (docs/method.md).
    """
    gains = np.empty_like(level_db)
    held = np.zeros(len(level_db), dtype=np.bool_)
    state = np.array([figures.rest_db])
    kernel.gain_steps(level_db, held, _kernel_figures(figures, attack=1.0, release=1.0), state, gains)
    return gains


def _kernel_figures(figures: DynamicFigures, *, attack: float, release: float) -> Array:
    slope = 1.0 - 1.0 / figures.ratio
    return np.array([figures.threshold_db, slope, figures.knee_db, figures.depth_db, figures.rest_db, attack, release])


def lookahead_frames(lookahead_ms: float, *, sample_rate_hz: float) -> int:
    """Return a look-ahead in whole control steps."""
    return round(lookahead_ms / 1e3 * sample_rate_hz / CONTROL_FRAMES) * CONTROL_FRAMES


class DynamicStage:
    """Detector, gain computer and filter; the look-ahead is the stage's latency."""

    def __init__(self, spec: DynamicSpec, n_channels: int, sample_rate_hz: float) -> None:
        figures = spec.figures
        self._n_channels = n_channels
        # One channel alone has no side: the move then does nothing.
        self._acts = n_channels == 2 or figures.channel != "side"
        self._steps_per_s = sample_rate_hz / SUBSTEP_FRAMES
        self._latency = lookahead_frames(figures.lookahead_ms, sample_rate_hz=sample_rate_hz)
        self._ahead = self._latency // SUBSTEP_FRAMES
        self._back = round(BURST_RISE_S * 3 * self._steps_per_s)
        self._detector_state = np.zeros((2, 2, 2))
        self._smooth = np.zeros(1)
        self._gain = np.array([figures.rest_db])
        self._switch_steps = max(1, round(SWITCH_S * self._steps_per_s))
        self._wet_step = self._switch_steps if figures.on else 0
        self._edge_db = figures.rest_db if figures.on else 0.0
        self._delay = np.zeros((n_channels, self._latency))
        self._burst_left = self._stroke_left = 0
        self._trace: Trace | None = None
        self._figures = figures
        self._table, self._old_table, self._blend = spec.table, spec.table.values, GLIDE_STEPS
        self._state = np.zeros((spec.table.values.shape[1], 2, 2))
        self._set_detector(spec.detector)
        self._levels = np.full(self._back + self._ahead + self._window - 1, SILENCE_POWER)

    @property
    def latency_frames(self) -> int:
        return self._latency

    def retune(self, spec: DynamicSpec) -> None:
        """Glide to other figures of the same structure."""
        table = spec.table
        lowest, highest = min(table.lowest_db, self._table.lowest_db), max(table.highest_db, self._table.highest_db)
        self._old_table = _resampled(self._blended(), self._table.lowest_db, lowest, highest)
        self._table = GainTable(lowest, _resampled(table.values, table.lowest_db, lowest, highest))
        self._blend = GLIDE_STEPS if np.array_equal(self._old_table, self._table.values) else 0
        self._figures = spec.figures
        window = self._window
        self._set_detector(spec.detector)
        grown = self._window - window
        if grown > 0:
            self._levels = np.concatenate([np.full(grown, self._levels[0]), self._levels])
        elif grown < 0:
            self._levels = self._levels[-grown:].copy()

    def process(self, x: Array, context: Context) -> Array:
        figures = self._figures
        if figures.listens_to:
            key = context.read_key(figures.listens_to, figures.listens_after_fader, context.frame, x.shape[1])
            # A key is heard in the mid or the side where the move acts on that, else in all its channels.
            heard = lane_of(key, figures.channel) if figures.channel in ("mid", "side") else key
        else:
            heard = lane_of(x, figures.channel)
        level_db, held = self._measure(np.ascontiguousarray(heard))
        gains_db = self._gains(level_db, held)
        delayed = np.concatenate([self._delay, x], axis=1)
        self._delay = delayed[:, x.shape[1] :].copy()
        x = np.ascontiguousarray(delayed[:, : x.shape[1]])
        if self._acts:
            before = lane_of(x, figures.channel)
            after = np.ascontiguousarray(before).copy()
            self._filter(after, gains_db)
            put_lane_back(x, figures.channel, before, after)
        self._trace = Trace(context.frame - self._latency, SUBSTEP_FRAMES, level_db, gains_db[1:])
        return x

    def trace(self) -> Trace | None:
        return self._trace

    def clone(self) -> Self:
        other = copy(self)
        for name in ("_detector_state", "_smooth", "_gain", "_delay", "_levels", "_state"):
            setattr(other, name, getattr(self, name).copy())
        return other

    def is_sound(self) -> bool:
        states = (self._detector_state, self._state, self._gain, self._smooth, self._levels)
        return all(bool(np.isfinite(values).all()) for values in states)

    def _set_detector(self, detector: tuple[Biquad, Biquad]) -> None:
        self._detector = np.array([[s.b0, s.b1, s.b2, s.a1, s.a2] for s in detector])
        # The highest of half a period of the band: a steady tone then reads steadily, without ripple.
        self._window = max(1, int(np.ceil(0.5 / self._figures.detector_hz * self._steps_per_s)))
        smoothing_s = max(SMOOTHING_S, 1.0 / self._figures.detector_hz)
        self._smoothing = 1.0 - np.exp(-1.0 / (smoothing_s * self._steps_per_s))

    def _measure(self, heard: Array) -> tuple[Array, np.ndarray]:
        """Return the band's level in dB for each step of the output, and where the move must hold still."""
        n = heard.shape[1] // SUBSTEP_FRAMES
        peaks, powers = np.empty(n), np.empty(n)
        kernel.level_steps(heard, self._detector, self._detector_state, peaks, powers)
        kernel.smoothed(powers, self._smoothing, self._smooth)
        # Powers of a sine are half its squared peak: RMS detection reads -3.01 dBFS for full scale.
        self._levels = np.concatenate([self._levels, powers if self._figures.rms else peaks])
        if self._figures.rms:
            steady = self._levels[self._window - 1 :]
        else:
            steady = np.empty(len(self._levels) - self._window + 1)
            kernel.highest_of_last(self._levels, self._window, steady)
        self._levels = self._levels[n:]
        held = self._held(steady, n)
        now = steady[self._back : self._back + n]
        if self._figures.trigger != "after-stroke":
            # What comes within the look-ahead counts, so that the gain is down before it, and stays down to its end.
            now = np.empty(n)
            kernel.highest_of_last(steady[self._back : self._back + n + self._ahead], self._ahead + 1, now)
        return 10.0 * np.log10(np.maximum(now, SILENCE_POWER)), held

    def _held(self, steady: Array, n: int) -> np.ndarray:
        """Return for each step whether the trigger forbids to act. `steady` reaches from _back before to _ahead after."""
        held = np.zeros(n, dtype=np.bool_)
        threshold = 10.0 ** (self._figures.threshold_db / 10.0)
        steps = self._steps_per_s
        if self._figures.trigger == "after-stroke":
            grown = 10.0 ** (STROKE_RISE_DB / 10.0)
            self._stroke_left = kernel.stroke_holds(
                steady, self._back, self._ahead, round(STROKE_RISE_S * steps), grown, threshold / grown,
                round(self._figures.stroke_ms / 1e3 * steps), self._stroke_left, held,
            )  # fmt: skip
        elif self._figures.trigger == "sudden":
            self._burst_left = kernel.burst_holds(
                steady, self._back, self._ahead, threshold, 10.0 ** (BURST_OVER_DB / 10.0), LOWER_RISE, UPPER_RISE,
                round(BURST_RISE_S * steps), round(BURST_SETTLE_S * steps), round(BURST_LONGEST_S * steps),
                self._burst_left, held,
            )  # fmt: skip
        return held

    def _gains(self, level_db: Array, held: np.ndarray) -> Array:
        """Return the gain at the edges of the steps, (n + 1,)."""
        figures = self._figures
        attack = 1.0 - np.exp(-1e3 / (figures.attack_ms * self._steps_per_s))
        release = 1.0 - np.exp(-1e3 / (figures.release_ms * self._steps_per_s))
        gains = np.empty(len(level_db))
        kernel.gain_steps(level_db, held, _kernel_figures(figures, attack=attack, release=release), self._gain, gains)
        goal = self._switch_steps if figures.on else 0
        if self._wet_step != goal or goal == 0:
            way = np.arange(1, len(gains) + 1) * (1 if goal else -1)
            wet = np.clip(self._wet_step + way, 0, self._switch_steps)
            self._wet_step = int(wet[-1])
            gains *= wet / self._switch_steps
        edges = np.concatenate([[self._edge_db], gains])
        self._edge_db = float(gains[-1])
        return edges

    def _filter(self, lanes: Array, gains_db: Array) -> None:
        """Filter in place; while figures glide, the table is blended anew at every control step."""
        done = 0
        while done < lanes.shape[1]:
            count = CONTROL_FRAMES if self._blend < GLIDE_STEPS else lanes.shape[1] - done
            first, last = done // SUBSTEP_FRAMES, (done + count) // SUBSTEP_FRAMES
            kernel.run_table(
                lanes[:, done : done + count], gains_db[first : last + 1], self._table.lowest_db, TABLE_STEP_DB,
                self._blended(), self._state,
            )  # fmt: skip
            self._blend = min(self._blend + 1, GLIDE_STEPS)
            done += count

    def _blended(self) -> Array:
        if self._blend >= GLIDE_STEPS:
            return self._table.values
        weight = 0.5 - 0.5 * np.cos(np.pi * self._blend / GLIDE_STEPS)
        return np.asarray(self._old_table + weight * (self._table.values - self._old_table))


def _resampled(values: Array, own_lowest_db: float, lowest_db: float, highest_db: float) -> Array:
    """Return a table stretched to other limits; beyond its own it stays as at its end."""
    wanted = np.arange(lowest_db, highest_db + TABLE_STEP_DB / 2.0, TABLE_STEP_DB)
    index = np.clip(np.round((wanted - own_lowest_db) / TABLE_STEP_DB).astype(int), 0, len(values) - 1)
    return np.asarray(values[index])
