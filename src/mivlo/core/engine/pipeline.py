"""Stages in series over the stream, with look-ahead made up for, and with a way back: a change acts at once.

Every stage counts its own input in frames of the stream. A stage of latency L hands on what belongs L frames
earlier; what comes before the place that the next stage waits for is dropped. A change at frame t takes all stages
back to where each had taken in just the frames before t (from saved states, or by running on from them), so it acts
in every stage at the same sample of the sound, and the result is as if it had been known beforehand. A stage of
latency L gives that sample when it has taken in L frames more: only then are its figures changed.
"""

from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from mivlo.core.processors.stage import Context, ReadKey, Stage, StageSpec, Trace
from mivlo.core.units import Array

__all__ = ["FAR_AHEAD_FRAMES", "SAVE_EVERY_FRAMES", "Pipeline", "ReadInput"]

SAVE_EVERY_FRAMES = 4_096
FAR_AHEAD_FRAMES = 8_192  # what is rendered far ahead is rarely taken back: larger blocks, fewer saved states
BLOCK_FRAMES = 32_768  # at most at a time; where states are saved, up to the next of the places where that is done
TRACES_KEPT_FRAMES = 16_384  # behind the play position, for offcuts

ReadInput = Callable[[int, int], Array]
"""(stream frame, frames) -> (channels, frames), a fresh array."""


_Due = tuple[tuple[int, StageSpec], ...]


@dataclass
class _Placed:
    """A stage, where its input stands, what it is to be from which frame of that on, and its saved states, oldest
    first."""

    stage: Stage
    at: int
    due: _Due = ()
    saved: deque[tuple[int, Stage, _Due]] = field(default_factory=deque)

    def retune(self, spec: StageSpec) -> None:
        """Change the figures from the sound on that it takes in next."""
        if self.stage.latency_frames:
            self.due = (*self.due, (self.at + self.stage.latency_frames, spec))
        else:
            spec.retune(self.stage)

    def take_in(self, x: Array, context: Context, traces: list[Trace]) -> Array:
        """Run it over a block, its figures changed where that is due; what it traced is added to a list."""
        if not self.due:
            return self._run(x, context, traces)
        parts, frame = [], context.frame
        while self.due and self.due[0][0] < frame + x.shape[1]:
            (due, spec), *rest = self.due
            if due > frame:
                parts.append(self._run(x[:, : due - frame], replace(context, frame=frame), traces))
                x, frame = x[:, due - frame :], due
            spec.retune(self.stage)
            self.due = tuple(rest)
        parts.append(self._run(x, replace(context, frame=frame), traces))
        return np.concatenate(parts, axis=1) if len(parts) > 1 else parts[0]

    def _run(self, x: Array, context: Context, traces: list[Trace]) -> Array:
        y = self.stage.process(np.ascontiguousarray(x), context)
        if (trace := self.stage.trace()) is not None:
            traces.append(trace)
        return y

    def save(self) -> None:
        """Keep the state that it is in."""
        self.saved.append((self.at, self.stage.clone(), self.due))


class Pipeline:
    """Stages made from their specs, at rest, with a first input frame; outputs from `position` on."""

    def __init__(
        self, specs: Sequence[StageSpec], n_channels: int, *, start: int, sample_rate_hz: float, rewindable: bool
    ) -> None:
        self._specs = tuple(specs)
        self._retunes: deque[tuple[int, tuple[StageSpec, ...]]] = (
            deque()
        )  # from which frame, what the stages were before
        self._retuned_at = start  # or made, as far back as that matters
        self._n_channels = n_channels
        self._rewindable = rewindable
        self._save_every = SAVE_EVERY_FRAMES
        self._placed = [_Placed(spec.make(n_channels, sample_rate_hz), start) for spec in specs]
        self.position = start
        self.traces: dict[str, deque[Trace]] | None = None
        if rewindable:
            self._save_all()

    @property
    def specs(self) -> tuple[StageSpec, ...]:
        """Return what the stages are."""
        return self._specs

    @property
    def latency_frames(self) -> int:
        """Return how far its input reads ahead of its output."""
        return sum(placed.stage.latency_frames for placed in self._placed)

    def structure(self) -> tuple[object, ...]:
        """Return what decides whether it can be retuned."""
        return tuple(spec.structure() for spec in self._specs)

    def run(self, until: int, read_input: ReadInput, read_key: ReadKey, *, far_ahead: bool = False) -> Array:
        """Return the output from `position` to `until`; `far_ahead`: a change in what it renders is not expected."""
        self._save_every = FAR_AHEAD_FRAMES if far_ahead else SAVE_EVERY_FRAMES
        out = [np.zeros((self._n_channels, 0))]
        while self.position < until:
            part = self._step(until, read_input, read_key)
            self.position += part.shape[1]
            out.append(part)
        return np.concatenate(out, axis=1) if len(out) != 2 else out[1]

    def retune(self, specs: Sequence[StageSpec]) -> None:
        """Let every stage glide to other figures from where it stands (after `rewind`)."""
        for placed, before, spec in zip(self._placed, self._specs, specs, strict=True):
            if spec != before:
                placed.retune(spec)
        if self._rewindable:
            self._retunes.append((self.position, self._specs))
            self._save_all()
        self._specs = tuple(specs)

    def rewind(self, frame: int, read_input: ReadInput, read_key: ReadKey, *, stale: bool = True) -> None:
        """Take all stages back to where each has taken in just the frames before `frame`, as they were then.

        `stale`: what is read from that frame on is another than before. A stage behind one that looks ahead has then
        taken in sound that hung on it, and goes back further, to where it had not.
        """
        while self._retunes and self._retunes[-1][0] > frame:
            self._specs = self._retunes.pop()[1]
        if all(placed.at == frame for placed in self._placed):
            self.position = frame
            return
        caught: dict[int, tuple[Stage, _Due]] = {}
        latest = frame
        retuned_at = self._retunes[-1][0] if self._retunes else self._retuned_at
        for index, placed in reversed(list(enumerate(self._placed))):
            if stale:  # no further than to the last change of figures: as it was then it is known
                latest = min(latest, max(frame - self._latency_before(index), retuned_at))
            while placed.saved[-1][0] > latest:
                placed.saved.pop()
            at, stage, due = placed.saved[-1]
            placed.stage, placed.at, placed.due = stage.clone(), at, due
            if at == frame:
                caught[index] = (stage.clone(), due)
            latest = self._latest_before(index, at, frame)
        self.position = min(frame, *(placed.at for placed in self._placed))
        while len(caught) < len(self._placed):
            # Runs on with the figures from before the change; what comes out is known already, and nobody goes back
            # to it.
            self._step(frame + self.latency_frames, read_input, read_key, catch=frame, caught=caught)
        for index, placed in enumerate(self._placed):
            (placed.stage, placed.due), placed.at = caught[index], frame
        self.position = frame
        if self.traces is not None:
            for traces in self.traces.values():
                while traces and traces[-1].frame >= frame:
                    traces.pop()

    def forget_before(self, frame: int) -> None:
        """Drop the saved states that only a change before a frame would need."""
        while self._retunes and self._retunes[0][0] <= frame:
            self._retuned_at = self._retunes.popleft()[0]
        latest = frame
        for index, placed in reversed(list(enumerate(self._placed)) if self._rewindable else []):
            while len(placed.saved) > 1 and placed.saved[1][0] <= min(latest, frame - self._latency_before(index)):
                placed.saved.popleft()
            latest = self._latest_before(index, placed.saved[0][0], frame)
        for traces in (self.traces or {}).values():
            while len(traces) > 1 and traces[1].frame <= frame - TRACES_KEPT_FRAMES:
                traces.popleft()

    def is_finite(self) -> bool:
        """Tell whether all states are finite numbers."""
        return all(placed.stage.is_finite() for placed in self._placed)

    def _step(
        self, until: int, read_input: ReadInput, read_key: ReadKey, *, catch: int | None = None,
        caught: dict[int, tuple[Stage, _Due]] | None = None,
    ) -> Array:  # fmt: skip
        """Push one block of input through; return what comes out of the last stage."""
        first = self._placed[0].at if self._placed else self.position
        count = until + self.latency_frames - first
        if self._placed:
            count = min(count, self._room(catch))
        x = read_input(first, count)
        for index, (placed, spec) in enumerate(zip(self._placed, self._specs, strict=True)):
            # The stage before may hand on what this one has taken in already (after going back).
            x = x[:, max(placed.at - first, 0) :]
            if not x.shape[1]:
                return x
            first = placed.at
            wanted_from = self._placed[index + 1].at if index + 1 < len(self._placed) else self.position
            traces: list[Trace] = []
            y = placed.take_in(x, Context(first, read_key, wanted_from), traces)
            placed.at += x.shape[1]
            if caught is not None:
                if placed.at == catch and index not in caught:
                    caught[index] = (placed.stage.clone(), placed.due)
            elif self._rewindable and self._placed[0].at % self._save_every == 0 and placed.saved[-1][0] < placed.at:
                # All at once: places of their own would cut every block where any of them stands.
                placed.save()
            if self.traces is not None and traces:
                self.traces.setdefault(spec.key, deque()).extend(traces)
            x, first = y, first - placed.stage.latency_frames
        return x[:, max(self.position - first, 0) :]

    def _latency_before(self, index: int) -> int:
        return sum(placed.stage.latency_frames for placed in self._placed[:index])

    def _latest_before(self, index: int, at: int, frame: int) -> int:
        """Return how late the stage before may begin, so that a stage that begins at `at` is given all of its input."""
        return min(frame, at + self._placed[index - 1].stage.latency_frames) if index else frame

    def _room(self, catch: int | None) -> int:
        """Return how many frames the stages may take before states are wanted, or that of one at `catch`."""
        arriving = self._placed[0].at
        if catch is None:
            every = self._save_every if self._rewindable else BLOCK_FRAMES
            return every - arriving % every
        room = BLOCK_FRAMES
        for placed in self._placed:
            if placed.at < catch:
                room = min(room, catch - arriving)
            arriving -= placed.stage.latency_frames
        return room

    def _save_all(self) -> None:
        for placed in self._placed:
            while placed.saved and placed.saved[-1][0] >= placed.at:
                placed.saved.pop()
            placed.save()
