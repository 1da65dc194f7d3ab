"""One node of the engine (a track, a group, the mix): input, pipeline, and what it has given out ahead of time."""

import math
import threading
from collections import deque
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from mivlo.core.engine.pipeline import Pipeline
from mivlo.core.engine.ramp import STEPS, Ramp
from mivlo.core.engine.tape import Tape
from mivlo.core.kernels import CONTROL_FRAMES
from mivlo.core.processors.stage import ReadKey, StageSpec, Trace
from mivlo.core.units import Array

__all__ = ["MOST_PREROLL_S", "Extra", "ReadRaw", "Strip", "memory_of", "pan_gains", "start_of_preroll"]

BLOCK_GRID_FRAMES = 8_192  # pre-rolls begin on it, so that moves that work on blocks keep one grid from sample 0
MOST_PREROLL_S = 4.0
LEAST_BLOCK_FRAMES = 1_024
FADE_FRAMES = STEPS * CONTROL_FRAMES
_EVER = -(1 << 62)
_FADE = 0.5 - 0.5 * np.cos(np.pi * (np.arange(FADE_FRAMES) + 0.5) / FADE_FRAMES)

ReadRaw = Callable[[int, int], Array]


def memory_of(specs: Iterable[StageSpec], *, sample_rate_hz: float) -> float:
    """Return the longest memory of any of some stages in seconds, as far as a pre-roll goes back."""
    return min(max((spec.memory_s(sample_rate_hz) for spec in specs), default=0.0), MOST_PREROLL_S)


def start_of_preroll(start: int, *, memory_s: float, sample_rate_hz: float) -> int:
    """Return the frame from which stages are run, unheard, before play starts at a frame."""
    if memory_s <= 0.0:
        return start
    first = (start - math.ceil(memory_s * sample_rate_hz)) // BLOCK_GRID_FRAMES * BLOCK_GRID_FRAMES
    return max(first, 0) if start >= 0 else first


def pan_gains(pan: float, *, n_channels: int) -> tuple[float, float]:
    """Return (left, right): constant power with 0 dB at the centre for one channel, balance for two."""
    if n_channels == 2:
        return min(1.0, 1.0 - pan), min(1.0, 1.0 + pan)
    if pan == 0.0:
        return 1.0, 1.0
    angle = (pan + 1.0) * np.pi / 4.0
    return float(np.sqrt(2.0) * np.cos(angle)), float(np.sqrt(2.0) * np.sin(angle))


class Extra(Protocol):
    """What is heard in place of a strip's own sound (offcuts), read at stream frames."""

    @property
    def ahead_frames(self) -> int:
        """Return how far ahead of what is read the strip's own stages must have come."""

    def read(self, frame: int, n_frames: int) -> Array:
        """Return (channels, n_frames)."""

    def cut(self) -> None:
        """Forget what was computed from what has changed."""


@dataclass(frozen=True, slots=True)
class _Replaced:
    """What a strip ran until its stages were built anew at a frame, and the fade that it was in."""

    frame: int
    pipeline: Pipeline
    tail: tuple[int, Array] | None


class Strip:
    """Renders in the order of the stream, keeps what is ahead of the player, and can take it back."""

    def __init__(
        self, read_raw: ReadRaw, read_key: ReadKey, n_channels: int, specs: Sequence[StageSpec], *, frame: int,
        at_rest: int, sample_rate_hz: float, rewindable: bool,
    ) -> None:  # fmt: skip
        """Begin at a frame with stages that were at rest earlier."""
        self.n_channels = n_channels
        self.left, self.right = Ramp(0.0), Ramp(0.0)
        self.lock = threading.RLock()  # of the stages, held while they run
        self._tape_lock = threading.RLock()  # of what is ready: reading it never waits for stages that run ahead
        self.non_finite_at: list[int] = []
        self.far_ahead = False  # whether a change in what is rendered next is not expected
        self._read_raw, self._read_key = read_raw, read_key
        self._rate = sample_rate_hz
        self._rewindable = rewindable
        self._tracing = False
        self._ready = Tape(n_channels, frame=frame)
        self._tail: tuple[int, Array] | None = None
        self._replaced: deque[_Replaced] = deque()  # oldest first
        self.fixed_before = _EVER  # what lies before this frame cannot be taken back
        self.changed_at = frame  # no change of its stages is later
        self._extras: list[tuple[Extra, Ramp]] = []
        self._normal = Ramp(1.0)
        self._pending = np.zeros((n_channels, 0))  # what the stages have given beyond what is ready
        self._pipeline = self._started(specs, frame, at_rest=at_rest)

    @property
    def specs(self) -> tuple[StageSpec, ...]:
        """Return the stages that it runs."""
        return self._pipeline.specs

    @property
    def latency_frames(self) -> int:
        """Return how far it reads ahead."""
        return self._pipeline.latency_frames

    @property
    def ready_until(self) -> int:
        """Return the stream frame up to which it has rendered."""
        return self._ready.until

    def read_raw(self, frame: int, n_frames: int) -> Array:
        """Return the untreated input."""
        x = self._read_raw(frame, n_frames)
        if not math.isfinite(x.sum()):
            self.non_finite_at.append(frame)
            x = np.nan_to_num(x, nan=0.0, posinf=0.0, neginf=0.0)
        return x

    def read(self, frame: int, n_frames: int) -> Array:
        """Return what has passed the ledger, from a frame on; frames that were forgotten cannot be read again."""
        if frame + n_frames > self.ready_until:
            self.extend(frame + n_frames)
        with self._tape_lock:
            return self._ready.read(frame, n_frames)

    def extend(self, until: int) -> None:
        """Render up to a frame, or a little further."""
        with self.lock:
            if until > self.ready_until:
                if self._rewindable:
                    # Somewhat more than was asked for: many small blocks cost more than the work in them.
                    until = -(-until // LEAST_BLOCK_FRAMES) * LEAST_BLOCK_FRAMES
                made = self._produce(self.ready_until, until)
                with self._tape_lock:
                    self._ready.append(made)

    def forget_before(self, frame: int) -> None:
        """Let go of what has been played; saved states at the next chance, where the stages are running just now."""
        with self._tape_lock:
            self._ready.forget_before(frame)
        if self.lock.acquire(blocking=False):
            try:
                while self._replaced and self._replaced[0].frame <= frame:
                    self._replaced.popleft()
                if self._tail is not None and self._tail[0] + FADE_FRAMES <= frame:
                    self._tail = None
                self._pipeline.forget_before(frame)
            finally:
                self.lock.release()

    def apply(self, specs: Sequence[StageSpec], *, frame: int, stale: bool) -> bool:
        """Glide to other stages from a frame on; `stale` says that what was read ahead is not true any more.

        Returns whether what it gives from that frame on is another than before.
        """
        specs = tuple(specs)
        if specs == self._pipeline.specs and not stale:
            return False  # without waiting for stages that run ahead just now
        with self.lock:
            self.extend(frame)
            if tuple(spec.structure() for spec in specs) == self._pipeline.structure():
                self._go_back(frame, stale=stale)
                self._pipeline.retune(specs)
            else:
                if stale:  # what fades out takes in the same as what fades in, however far it was rendered
                    self._go_back(frame, stale=True)
                self.extend(frame + FADE_FRAMES)
                with self._tape_lock:
                    tail = self._ready.read(frame, FADE_FRAMES)
                self._cut(frame)
                if self._rewindable:
                    self._replaced.append(_Replaced(frame, self._pipeline, self._tail))
                self._pipeline = self._started(specs, frame)
                self._tail = (frame, tail)
            self.changed_at = frame
            for extra, _ in self._extras:
                extra.cut()
            return True

    def take_back(self, frame: int, *, stale: bool) -> bool:
        """Undo all changes later than a frame; `stale` says that what it took in from there is not true any more.

        Returns whether what it gives from that frame on is another than before.
        """
        faded = [ramp.take_back(frame) for ramp in (self.left, self.right)]
        if not (stale or self.changed_at > frame):
            return any(faded)  # without waiting for stages that run ahead just now
        with self.lock:
            while self._replaced and self._replaced[-1].frame > frame:
                replaced = self._replaced.pop()
                self._pipeline, self._tail = replaced.pipeline, replaced.tail
            self._go_back(frame, stale=stale)
            self.changed_at = frame
            for extra, _ in self._extras:
                extra.cut()
            return True

    def aim_extra(self, extra: Extra | None, *, frame: int, starting: bool) -> None:
        """Fade to what is heard in its place from a frame on, or back from it."""
        with self.lock:
            if not starting:
                self.extend(frame)
                self._go_back(frame, stale=False)
                if (
                    self._tracing and not self._extras
                ):  # how far back it was traced hangs on how far it was rendered ahead
                    self._pipeline.traces = {}
                self.fixed_before = frame
            self._extras = [item for item in self._extras if not (item[1].goal == 0.0 and item[1].rests_at(frame))]
            for _, weight in self._extras:
                weight.set_goal(0.0, frame=frame)
            if starting:
                self._normal = Ramp(0.0 if extra else 1.0)
            self._normal.set_goal(0.0 if extra else 1.0, frame=frame)
            if extra is not None:
                weight = Ramp(1.0 if starting else 0.0)
                weight.set_goal(1.0, frame=frame)
                self._extras.append((extra, weight))

    def trace(self, on: bool) -> None:
        """Keep what every stage did, or stop keeping it."""
        with self.lock:
            wanted = on or any(extra.ahead_frames for extra, _ in self._extras)
            if wanted != self._tracing:
                self._tracing = wanted
                self._pipeline.traces = {} if wanted else None

    def traces(self) -> dict[str, list[Trace]]:
        """Return what the stages did, by the keys of their specs."""
        with self.lock:
            return {key: list(traces) for key, traces in (self._pipeline.traces or {}).items()}

    def fader(self, frame: int, n_frames: int) -> Array:
        """Return a fresh (2, n_frames): left and right behind the fader."""
        x = self.read(frame, n_frames)
        out = x if self.n_channels == 2 else np.empty((2, n_frames))
        np.multiply(x[0], self.left.take(frame, n_frames), out=out[0])
        np.multiply(x[-1], self.right.take(frame, n_frames), out=out[1])
        return out

    def silent_from(self, frame: int) -> bool:
        """Tell whether nothing of it is heard from a frame on, as things stand."""
        return all(ramp.goal == 0.0 and ramp.rests_at(frame) for ramp in (self.left, self.right))

    def _started(self, specs: Sequence[StageSpec], frame: int, *, at_rest: int | None = None) -> Pipeline:
        """Return a pipeline as play starts it: run from rest over the pre-roll, up to a frame."""
        memory_s = memory_of(specs, sample_rate_hz=self._rate)
        own = start_of_preroll(frame, memory_s=memory_s, sample_rate_hz=self._rate)
        first = own if at_rest is None else at_rest
        pipeline = Pipeline(specs, self.n_channels, start=first, sample_rate_hz=self._rate, rewindable=self._rewindable)
        if self._tracing:
            pipeline.traces = {}
        pipeline.run(frame, self.read_raw, self._read_key, far_ahead=True)
        pipeline.forget_before(frame)
        return pipeline

    def _cut(self, frame: int) -> None:
        with self._tape_lock:
            self._ready.cut(frame)
        self._pending = self._pending[:, :0]

    def _go_back(self, frame: int, *, stale: bool) -> None:
        self._pipeline.rewind(frame, self.read_raw, self._read_key, stale=stale)
        self._cut(frame)

    def _produce(self, frame: int, until: int) -> Array:
        reach = until + max((extra.ahead_frames for extra, _ in self._extras), default=0)
        made = self._pipeline.run(reach, self.read_raw, self._read_key, far_ahead=self.far_ahead)
        y = np.concatenate([self._pending, made], axis=1) if self._pending.shape[1] else made
        self._pending = y[:, until - frame :].copy()
        y = y[:, : until - frame]
        if not math.isfinite(y.sum()):
            # Reset, told to the user, and silent for this stretch: what is no number must never reach anybody's ears.
            self.non_finite_at.append(frame)
            self.fixed_before = until
            self._pipeline = self._started(self._pipeline.specs, until)
            if not self._pipeline.is_finite():
                self._pipeline = self._started((), until)
            y = np.zeros((self.n_channels, until - frame))
        if self._tail is not None:
            at, tail = self._tail
            first, last = max(at, frame), min(at + FADE_FRAMES, until)
            if first < last:
                weight = _FADE[first - at : last - at]
                part = slice(first - frame, last - frame)
                y = y.copy()  # the last stage may go on with what it has given
                y[:, part] = tail[:, first - at : last - at] * (1.0 - weight) + y[:, part] * weight
        return self._with_extras(y, frame)

    def _with_extras(self, y: Array, frame: int) -> Array:
        n = y.shape[1]
        if self._extras:
            y = y * self._normal.take(frame, n)
            for extra, weight in self._extras:
                if not (weight.goal == 0.0 and weight.rests_at(frame)):
                    y = y + extra.read(frame, n) * weight.take(frame, n)
        return y
