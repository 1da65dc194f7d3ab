"""A filter whose gain follows the level of a band: its own, or another track's."""

from copy import copy
from dataclasses import dataclass
from typing import Literal, Self

import numpy as np

from mivlo.core.filters.biquad import Biquad
from mivlo.core.kernels.dynamic_band import SUBSTEP_FRAMES, gain_steps, highest_of_last, level_steps, run_table
from mivlo.core.kernels.svf_chain import CONTROL_FRAMES
from mivlo.core.processors.chain import Channel
from mivlo.core.processors.stage import Context, Trace
from mivlo.core.units import Array

__all__ = ["Channel", "DynamicFigures", "DynamicStage", "Trigger", "static_gain_db"]

Trigger = Literal["above", "after-stroke", "sudden"]
SILENCE_POWER = 1e-15
SMOOTHING_S = 0.010  # of RMS detection: 10 ms, or a period of the band where that is longer
GLIDE_STEPS = 32  # of the control grid: 43 ms at 48 kHz for figures that are changed
# A stroke: within STROKE_RISE_S the level of the band has grown by STROKE_RISE_DB (our choice, docs/method.md).
STROKE_RISE_S, STROKE_RISE_DB = 0.012, 6.0
# A burst: over the running level by BURST_OVER_DB, and up from three tenths to nine tenths of its height within
# BURST_RISE_S. A sung note of 60 ms onset takes 25 ms and more for that; a plosive under 12 ms.
BURST_OVER_DB, BURST_RISE_S, BURST_LONGEST_S = 9.0, 0.018, 0.18
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


def static_gain_db(level_db: Array, figures: DynamicFigures) -> Array:
    """Return the gain that a steady level (n,) leads to.

    Source: static curve with soft knee of D. Giannoulis, M. Massberg, J. Reiss, JAES 60(6), 2012, eq. 4; limited to
    the depth, and signed: ours (docs/method.md).
    """
    gains = np.empty_like(level_db)
    held = np.zeros(len(level_db), dtype=np.bool_)
    gain_steps(level_db, held, _kernel_figures(figures, attack=1.0, release=1.0), np.array([figures.rest_db]), gains)
    return gains


def _kernel_figures(figures: DynamicFigures, *, attack: float, release: float) -> Array:
    slope = 1.0 - 1.0 / figures.ratio
    return np.array(
        [figures.threshold_db, slope, figures.knee_db, figures.depth_db, figures.rest_db, attack, release]
    )


class DynamicStage:
    """Detector, gain computer and filter; the look-ahead is the stage's latency."""

    def __init__(
        self, figures: DynamicFigures, detector: tuple[Biquad, Biquad], table: "GainTable", n_channels: int, sample_rate_hz: float
    ) -> None:
        self._rate = sample_rate_hz
        self._n_channels = n_channels
        self._steps_per_s = sample_rate_hz / SUBSTEP_FRAMES
        self.figures = figures
        self._latency = lookahead_frames(figures.lookahead_ms, sample_rate_hz=sample_rate_hz)
        self._ahead = self._latency // SUBSTEP_FRAMES
        self._detector_state = np.zeros((2, 2, 2))
        self._smoothed = 0.0
        self._gain = np.array([figures.rest_db])
        self._wet = 1.0 if figures.on else 0.0
        self._last_gain_db = figures.rest_db * self._wet
        self._delay = np.zeros((n_channels, self._latency))
        self._back = round(max(STROKE_RISE_S, BURST_RISE_S * 3) * self._steps_per_s)
        self._levels = np.full(0, SILENCE_POWER)
        self._burst_left = 0
        self._stroke_left = 0
        self._trace: Trace | None = None
        self._table = table
        self._old_table = table.values
        self._blend = GLIDE_STEPS
        self._state = np.zeros((table.values.shape[1], 2, 2))
        self._set_detector(detector)
        self._levels = np.full(self._back + self._ahead + self._window - 1, SILENCE_POWER)

    @property
    def latency_frames(self) -> int:
        return self._latency

    def retune(self, figures: DynamicFigures, detector: tuple[Biquad, Biquad], table: "GainTable") -> None:
        """Glide to other figures of the same look-ahead."""
        if table.values.shape != self._table.values.shape or table.lowest_db != self._table.lowest_db:
            lowest, highest = min(table.lowest_db, self._table.lowest_db), max(table.highest_db, self._table.highest_db)
            self._old_table = resampled(self._blended(), self._table, lowest, highest)
            table = GainTable(lowest, resampled(table.values, table, lowest, highest))
        else:
            self._old_table = self._blended()
        self._blend = 0 if not np.array_equal(self._old_table, table.values) else GLIDE_STEPS
        self._table = table
        self.figures = figures
        window = self._window
        self._set_detector(detector)
        grown = self._window - window
        self._levels = (
            np.concatenate([np.full(grown, self._levels[0]), self._levels]) if grown > 0 else self._levels[-grown:].copy()
        )

    def process(self, x: Array, context: Context) -> Array:
        lanes = self._lanes(x)
        figures = self.figures
        if figures.listens_to:
            heard = self._heard(context.read_key(figures.listens_to, context.frame, x.shape[1]))
        else:
            heard = lanes
        level_db, held = self._measure(np.ascontiguousarray(heard))
        gains_db = self._gains(level_db, held)
        delayed = np.concatenate([self._delay, x], axis=1)
        self._delay = delayed[:, x.shape[1] :].copy()
        x = delayed[:, : x.shape[1]]
        lanes = self._lanes(x)
        before = lanes.copy() if lanes is not x else lanes
        self._filter(lanes, gains_db)
        self._put_back(x, before, lanes)
        self._trace = Trace(context.frame - self._latency, SUBSTEP_FRAMES, level_db, gains_db[1:].copy())
        return x

    def trace(self) -> Trace | None:
        return self._trace

    def clone(self) -> Self:
        other = copy(self)
        for name in ("_detector_state", "_gain", "_delay", "_levels", "_state"):
            setattr(other, name, getattr(self, name).copy())
        return other

    def is_sound(self) -> bool:
        finite = (np.isfinite(values).all() for values in (self._detector_state, self._state, self._gain, self._delay))
        return all(finite) and bool(np.isfinite(self._levels).all())

    def _set_detector(self, detector: tuple[Biquad, Biquad]) -> None:
        self._detector = np.array([[s.b0, s.b1, s.b2, s.a1, s.a2] for s in detector])
        # The highest of half a period of the band: a steady tone then reads steadily, without ripple.
        self._window = max(1, int(np.ceil(0.5 / self.figures.detector_hz * self._steps_per_s)))
        smoothing_s = max(SMOOTHING_S, 1.0 / self.figures.detector_hz)
        self._smoothing = 1.0 - np.exp(-1.0 / (smoothing_s * self._steps_per_s))

    def _lanes(self, x: Array) -> Array:
        """Return what the move acts on: (1 or 2, n)."""
        channel = self.figures.channel
        if self._n_channels == 1 or channel == "both":
            return x
        if channel in ("left", "right"):
            index = 0 if channel == "left" else 1
            return x[index : index + 1]
        sign = 1.0 if channel == "mid" else -1.0
        return np.asarray(0.5 * (x[:1] + sign * x[1:]))

    def _heard(self, key: Array) -> Array:
        """Return what of another track is listened to: the mid or side where the move acts on that, else all of it."""
        if key.shape[0] == 1 or self.figures.channel not in ("mid", "side"):
            return key
        sign = 1.0 if self.figures.channel == "mid" else -1.0
        return np.asarray(0.5 * (key[:1] + sign * key[1:]))

    def _put_back(self, x: Array, before: Array, after: Array) -> None:
        channel = self.figures.channel
        if self._n_channels == 1 or channel == "both":
            return
        if channel in ("left", "right"):
            return
        difference = after[0] - before[0]  # exactly 0 where the move rests
        x[0] += difference
        x[1] += difference if channel == "mid" else -difference

    def _measure(self, heard: Array) -> tuple[Array, np.ndarray]:
        """Return the band's level in dB for each step of the output, and where the move must hold still."""
        n = heard.shape[1] // SUBSTEP_FRAMES
        peaks, powers = np.empty(n), np.empty(n)
        level_steps(heard, self._detector, self._detector_state, peaks, powers)
        if self.figures.rms:
            for i in range(n):
                self._smoothed += self._smoothing * (powers[i] - self._smoothed)
                powers[i] = self._smoothed
            # Powers of a sine are half its squared peak: RMS detection reads -3.01 dBFS for full scale.
            peaks = powers
        self._levels = np.concatenate([self._levels, peaks])
        steady = np.empty(len(self._levels) - self._window + 1)
        highest_of_last(self._levels, self._window, steady)
        if self.figures.rms:
            steady = self._levels[self._window - 1 :]
        held = self._held(steady, n)
        self._levels = self._levels[n:]
        now = steady[self._back : self._back + n]
        return 10.0 * np.log10(np.maximum(now, SILENCE_POWER)), held

    def _held(self, steady: Array, n: int) -> np.ndarray:
        """Return for each step whether the trigger forbids to act. `steady` reaches from _back before to _ahead after."""
        held = np.zeros(n, dtype=np.bool_)
        match self.figures.trigger:
            case "after-stroke":
                rise = round(STROKE_RISE_S * self._steps_per_s)
                needed = 10.0 ** (STROKE_RISE_DB / 10.0)
                floor = 10.0 ** ((self.figures.threshold_db - STROKE_RISE_DB) / 10.0)
                length = round(self.figures.stroke_ms / 1e3 * self._steps_per_s)
                for i in range(n):
                    at = self._back + min(i + min(rise, self._ahead), len(steady) - self._back - 1)
                    if steady[at] > max(needed * steady[at - rise], floor):
                        self._stroke_left = length
                    held[i] = self._stroke_left > 0
                    self._stroke_left = max(self._stroke_left - 1, 0)
            case "sudden":
                threshold = 10.0 ** (self.figures.threshold_db / 10.0)
                for i in range(n):
                    at = self._back + i
                    # Asked anew at every step until the burst is seen, so that a short look-ahead is late, not deaf.
                    if self._burst_left == 0 and steady[at : at + self._ahead + 1].max() > threshold and self._is_burst(steady, at):
                        self._burst_left = round(BURST_LONGEST_S * self._steps_per_s)
                    held[i] = self._burst_left == 0
                    self._burst_left = max(self._burst_left - 1, 0)
        return held

    def _is_burst(self, steady: Array, at: int) -> bool:
        """Tell whether what rises about a step does so like a burst: high over what ran before, and fast."""
        before = float(np.median(steady[at - self._back : at - self._back // 2]))
        around = steady[at - self._back // 2 : at + self._ahead + 1]
        top = int(np.argmax(around))
        height = np.sqrt(around[top]) - np.sqrt(before)
        if around[top] < before * 10.0 ** (BURST_OVER_DB / 10.0):
            return False
        rising = np.sqrt(around[: top + 1]) - np.sqrt(before)
        low = int(np.flatnonzero(rising <= LOWER_RISE * height)[-1]) if (rising <= LOWER_RISE * height).any() else -1
        if low < 0:
            return False
        high = low + int(np.flatnonzero(rising[low:] >= UPPER_RISE * height)[0])
        return high - low <= BURST_RISE_S * self._steps_per_s

    def _gains(self, level_db: Array, held: np.ndarray) -> Array:
        """Return the gain at the edges of the steps, (n + 1,)."""
        figures = self.figures
        attack = 1.0 - np.exp(-1e3 / (figures.attack_ms * self._steps_per_s))
        release = 1.0 - np.exp(-1e3 / (figures.release_ms * self._steps_per_s))
        gains = np.empty(len(level_db))
        gain_steps(level_db, held, _kernel_figures(figures, attack=attack, release=release), self._gain, gains)
        goal = 1.0 if figures.on else 0.0
        if self._wet != goal or not figures.on:
            steps = self._wet + np.sign(goal - self._wet) * np.arange(1, len(gains) + 1) / (0.01 * self._steps_per_s)
            wet = np.clip(steps, 0.0, 1.0) if self._wet != goal else np.full(len(gains), goal)
            self._wet = float(wet[-1])
            gains *= wet
        edges = np.concatenate([[self._last_gain_db], gains])
        self._last_gain_db = float(gains[-1])
        return edges

    def _filter(self, lanes: Array, gains_db: Array) -> None:
        """Filter in place; while figures glide, the table is blended anew at every control step."""
        per_step = CONTROL_FRAMES // SUBSTEP_FRAMES
        done = 0
        while done < lanes.shape[1]:
            gliding = self._blend < GLIDE_STEPS
            count = CONTROL_FRAMES if gliding else lanes.shape[1] - done
            first = done // SUBSTEP_FRAMES
            last = first + (per_step if gliding else count // SUBSTEP_FRAMES)
            run_table(
                lanes[:, done : done + count], gains_db[first : last + 1],
                self._table.lowest_db, TABLE_STEP_DB, self._blended(), self._state,
            )  # fmt: skip
            self._blend = min(self._blend + 1, GLIDE_STEPS)
            done += count

    def _blended(self) -> Array:
        if self._blend >= GLIDE_STEPS:
            return self._table.values
        weight = 0.5 - 0.5 * np.cos(np.pi * self._blend / GLIDE_STEPS)
        return np.asarray(self._old_table + weight * (self._table.values - self._old_table))


TABLE_STEP_DB = 1.0


@dataclass(frozen=True, slots=True, eq=False)
class GainTable:
    """Sections as (g, k, m0, m1, m2) at every whole dB from lowest_db on: (gains, sections, 5)."""

    lowest_db: float
    values: Array

    @property
    def highest_db(self) -> float:
        """Return the gain of the last row."""
        return self.lowest_db + TABLE_STEP_DB * (len(self.values) - 1)


def resampled(values: Array, like: GainTable, lowest_db: float, highest_db: float) -> Array:
    """Return a table stretched to other limits; beyond its own it stays as at its end."""
    wanted = np.arange(lowest_db, highest_db + TABLE_STEP_DB / 2.0, TABLE_STEP_DB)
    index = np.clip(np.round((wanted - like.lowest_db) / TABLE_STEP_DB).astype(int), 0, len(values) - 1)
    return np.asarray(values[index])


def lookahead_frames(lookahead_ms: float, *, sample_rate_hz: float) -> int:
    """Return a look-ahead in whole control steps."""
    return round(lookahead_ms / 1e3 * sample_rate_hz / CONTROL_FRAMES) * CONTROL_FRAMES
