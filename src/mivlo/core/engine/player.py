"""The mix, block by block, with state: the same code plays live and renders to a file.

Rules that make both bit-equal (docs/method.md): play starts on the control grid, after a pre-roll through stages at
rest that is as long as their memory; changes act at steps of the control grid; a loop's wrap carries all states on.
The strips are the `Graph`'s, what is only heard is `Monitoring`'s; here is where play has come to, and the way back.
"""

from collections import deque
from collections.abc import Callable
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np

from mivlo.core.engine.ahead import Ahead
from mivlo.core.engine.graph import Graph
from mivlo.core.engine.guard import Guard
from mivlo.core.engine.keys import OpenSource
from mivlo.core.engine.mix import Mix, reshapes
from mivlo.core.engine.monitoring import Monitoring, MonitoringMark
from mivlo.core.engine.strip import Strip
from mivlo.core.kernels import CONTROL_FRAMES
from mivlo.core.units import Array

__all__ = ["MoveGains", "NonFinite", "OpenSource", "Player", "on_grid"]


@dataclass(frozen=True, slots=True)
class NonFinite:
    """A state that was not a number any more: it was reset, and the stretch was silent."""

    strip_id: str
    frame: int


@dataclass(frozen=True, slots=True)
class MoveGains:
    """What a move does at one moment: the level that it hears (None where it hears none), and its gains."""

    key: str
    level_db: float | None
    gains_db: Array  # (1,), or one for each of bands_hz
    bands_hz: Array


def on_grid(frame: int) -> int:
    """Return the last step of the control grid at or before a frame."""
    return frame // CONTROL_FRAMES * CONTROL_FRAMES


class Player:
    """Renders the mix from a start on; `open_source` returns the source of an audio id.

    With `live`, changes may come while it plays; without, only what is heard is rendered.
    """

    def __init__(
        self, mix: Mix, open_source: OpenSource, *, start_frame: int, sample_rate_hz: float, live: bool = True,
        workers: Executor | None = None,
    ) -> None:  # fmt: skip
        self._start = self._frame = on_grid(start_frame)  # frames of the stream are those of the session until it wraps
        self._graph = Graph(
            mix, open_source, start=self._start, sample_rate_hz=sample_rate_hz, live=live, workers=workers
        )
        self._monitoring = Monitoring(mix, sample_rate_hz=sample_rate_hz)
        self._ahead = Ahead()
        self.tapped_track_id: str | None = None
        self.tap: Callable[[Array, Array], None] | None = None
        self._rest = np.zeros((2, 0))
        self._kept_from: int | None = None  # where what was rendered may still be taken back
        self._marks: deque[tuple[int, MonitoringMark]] = deque()
        self._put_together_at = self._frame

    @property
    def position(self) -> int:
        """Return the session frame that is rendered next."""
        return self._graph.position_of(self._frame)

    @property
    def frame(self) -> int:
        """Return the stream frame (counted from the start) at which a change made now would act."""
        return self._frame - self._start

    @property
    def rendered_frames(self) -> int:
        """Return how many frames have left the guard, a control step later than they went in."""
        return max(self.frame - CONTROL_FRAMES, 0) - self._rest.shape[1]

    @property
    def guard(self) -> Guard:
        """Return the guard, which also meters."""
        return self._monitoring.guard

    @property
    def correlation(self) -> float | None:
        """Return how far both sides go together just now, -1 to 1; None of silence."""
        return self._monitoring.correlation

    @property
    def n_tracks(self) -> int:
        """Return how many tracks are rendered."""
        return self._graph.n_tracks

    def strip(self, strip_id: str) -> Strip:
        """Return the strip of a track, a group or the mix; KeyError where there is none."""
        return self._graph.strips[strip_id]

    def keep_from(self, frame: int) -> None:
        """Keep what a change that is taken back to a stream frame (counted from the start), or later, will need."""
        self._kept_from = on_grid(self._start + frame)
        while len(self._marks) > 1 and self._marks[1][0] <= self._kept_from:
            self._marks.popleft()

    @property
    def fixed_frames(self) -> int:
        """Return the stream frame before which nothing can be taken back: there, the sound was put together anew."""
        return max(self._put_together_at, self._graph.fixed_before) - self._start

    def take_back(self, frame: int) -> int:
        """Go back to a stream frame, or to a little later; all changes after that are undone.

        Returns the stream frame at which a change made now acts. What leaves the guard next begins one control step
        before it.
        """
        goal = on_grid(self._start + max(frame, self.fixed_frames) + CONTROL_FRAMES - 1)
        if goal >= self._frame or not (self._marks and self._marks[0][0] <= goal):
            return self.frame
        while self._marks[-1][0] > goal:
            self._marks.pop()
        at, mark = self._marks[-1]
        self._graph.take_back(goal, mark.mix)
        self._monitoring.take_back(goal, mark)
        self._frame, self._rest = at, np.zeros((2, 0))
        tap, self.tap = self.tap, None
        if goal > at:
            self.render_steps(goal - at)  # was heard already
        self.tap = tap
        return self.frame

    def apply(self, mix: Mix) -> None:
        """Glide to another mix from the next control step on; tracks with other audio start with stages at rest."""
        if reshapes(self._monitoring.mix, mix):
            self._marks.clear()
            self._put_together_at = self._frame
        elif self._marks and self._marks[-1][0] == self._frame:
            self._marks.pop()  # it will be another one
        self._monitoring.apply(mix, frame=self._frame)
        before = self._graph.strip(self.tapped_track_id)
        self._ahead.note_edits(self._graph.apply(mix, frame=self._frame))
        after = self._graph.strip(self.tapped_track_id)
        if before is not after and before is not None and after is not None:  # of another mix, which stood beside
            before.trace(False)
            after.trace(True)

    def takes_long(self, mix: Mix) -> bool:
        """Tell whether a change to a mix would hold up play for long, were it not prepared.

        Raises
        ------
        ParameterError: a move that does not fit the rate
        """
        return self._graph.takes_long(mix)

    def prepare(self, mix: Mix) -> None:
        """Compute what a change to a mix will need and takes long; for a thread of its own, while play goes on.

        Raises
        ------
        ParameterError: a move that does not fit the rate
        """
        self._graph.prepare(mix)

    def render(self, n_frames: int) -> Array:
        """Return the next (2, n_frames) float64; any length, the same samples however they are asked for."""
        parts, have = [self._rest], self._rest.shape[1]
        while have < n_frames:
            steps = max(1, -(-(n_frames - have) // CONTROL_FRAMES))
            part = self.render_steps(steps * CONTROL_FRAMES)
            parts.append(part)
            have += part.shape[1]
        joined = np.concatenate(parts, axis=1)
        self._rest = joined[:, n_frames:]
        return joined[:, :n_frames]

    def render_steps(self, n_frames: int) -> Array:
        """Render a multiple of 64 frames; returns what has left the guard (one step less at the first call)."""
        first, at_once = self._frame, self._monitoring.until_seam(self._frame, n_frames)
        if at_once < n_frames:
            return np.concatenate([self.render_steps(at_once), self.render_steps(n_frames - at_once)], axis=1)
        if self._kept_from is not None and not (self._marks and self._marks[-1][0] == first):
            self._marks.append((first, self._monitoring.mark()))
        out = self._graph.read(first, n_frames)
        self._call_tap(first, n_frames)
        self._frame += n_frames
        self._graph.forget_before(self._needed_from, frame=self._frame)
        return self._monitoring.process(out, first)

    @property
    def _needed_from(self) -> int:
        """Return the frame before which nobody will read any more."""
        return min(self._frame, self._marks[0][0]) if self._marks else self._frame

    def work_ahead(self, ahead_frames: int) -> int:
        """Render some of what is not being edited ahead of the play position; returns how many frames of one track."""
        return self._ahead.work(self._graph.tracks, self._frame + ahead_frames, needed_from=self._needed_from)

    def stop_working_ahead(self) -> None:
        """Let everything be rendered when it is needed, in small blocks, until somebody works ahead again."""
        for strip in self._graph.strips.values():
            strip.far_ahead = False

    def watch(self, strip_id: str | None) -> None:
        """Tap a track, a group or the mix, and keep what its moves do."""
        before = self._graph.strip(self.tapped_track_id)
        if strip_id != self.tapped_track_id and before is not None:
            before.trace(False)
        self.tapped_track_id = strip_id
        if (strip := self._graph.strip(strip_id)) is not None:
            strip.trace(True)

    def move_gains(self, strip_id: str) -> list[MoveGains]:
        """Return what the moves of a watched strip do at the play position."""
        strip = self._graph.strip(strip_id)
        found = []
        for key, traces in strip.traces().items() if strip is not None else ():
            trace = next((one for one in reversed(traces) if one.frame <= self._frame), None)
            if trace is not None and len(trace.gain_db):
                index = min((self._frame - trace.frame) // trace.step_frames, len(trace.gain_db) - 1)
                level = float(trace.level_db[index]) if len(trace.level_db) else None
                found.append(MoveGains(key, level, np.atleast_1d(trace.gain_db[index]), trace.bands_hz))
        return found

    def non_finite(self) -> list[NonFinite]:
        """Return which states were reset since the last call."""
        found = []
        for strip_id, strip in self._graph.strips.items():
            found += [NonFinite(strip_id, frame) for frame in strip.non_finite_at]
            strip.non_finite_at.clear()
        return found

    def _call_tap(self, frame: int, n_frames: int) -> None:
        strip = self._graph.strip(self.tapped_track_id)
        if self.tap is not None and strip is not None:
            self.tap(strip.read_raw(frame, n_frames), strip.read(frame, n_frames))
