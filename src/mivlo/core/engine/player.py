"""The mix, block by block, with state: the same code plays live and renders to a file.

Rules that make both bit-equal (docs/method.md): play starts on the control grid, after a pre-roll of one
second through filters at rest; changes act at steps of the control grid; a loop's wrap carries all states on.
"""

from collections.abc import Callable

import numpy as np

from mivlo.core.engine.guard import Guard
from mivlo.core.engine.mix import GuardReference, Mix, audible_tracks
from mivlo.core.engine.ramp import STEPS, Ramp
from mivlo.core.engine.source import Segment, Source, Transport
from mivlo.core.engine.strip import Strip
from mivlo.core.kernels.svf_chain import CONTROL_FRAMES
from mivlo.core.units import Array, db_to_gain

__all__ = ["DIM_DB", "Player", "on_grid", "preroll_frames"]

DIM_DB = -20.0
PREROLL_S = 1.0
PROBE_FADE_FRAMES = (STEPS + 2) * CONTROL_FRAMES
PREROLL_CHUNK_FRAMES = 256 * CONTROL_FRAMES

OpenSource = Callable[[str], Source]


def on_grid(frame: int) -> int:
    """Return the last step of the control grid at or before a frame."""
    return frame // CONTROL_FRAMES * CONTROL_FRAMES


def preroll_frames(start: int, *, sample_rate_hz: float) -> int:
    """Return how many frames are run through the filters, unheard, before play starts at a frame."""
    return min(on_grid(start), on_grid(round(PREROLL_S * sample_rate_hz)))


class Player:
    """Renders the mix from a start on; `open_source` returns the source of an audio id."""

    def __init__(self, mix: Mix, open_source: OpenSource, *, start_frame: int, sample_rate_hz: float) -> None:
        self._open_source = open_source
        self._rate = sample_rate_hz
        self._mix = mix
        self._strips: dict[str, tuple[str, Strip]] = {}
        self.tapped_track_id: str | None = None
        self.tap: Callable[[Array, Array], None] | None = None
        self._guard = Guard(sample_rate_hz)
        self._match, self._dim = Ramp(db_to_gain(mix.match_db)), Ramp(db_to_gain(DIM_DB) if mix.dim else 1.0)
        self._guarded_until, self._fading_guard = 0, mix.guard
        self._frame = 0  # rendered since the start; the guard gives them out one step later
        self._make_strips(mix)
        start = on_grid(start_frame)
        self._preroll(start)
        self._transport = Transport(start, mix.loop())
        self._rest = np.zeros((2, 0))

    @property
    def position(self) -> int:
        """Return the session frame that is rendered next."""
        return self._transport.position

    @property
    def frame(self) -> int:
        """Return the stream frame (counted from the start) at which a change made now would act."""
        return self._frame

    @property
    def guard(self) -> Guard:
        """Return the guard, which also meters."""
        return self._guard

    def apply(self, mix: Mix) -> None:
        """Glide to another mix from the next control step on; tracks with other audio start with filters at rest."""
        if self._mix.probe is not None and mix.probe is None:
            self._fading_guard = self._mix.guard
            self._guarded_until = self._frame + PROBE_FADE_FRAMES
        self._mix = mix
        self._transport.loop = mix.loop()
        self._match.set_goal(db_to_gain(mix.match_db))
        self._dim.set_goal(db_to_gain(DIM_DB) if mix.dim else 1.0)
        self._make_strips(mix)

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
        if self._frame < self._guarded_until < self._frame + n_frames:
            fading = self._guarded_until - self._frame
            return np.concatenate([self.render_steps(fading), self.render_steps(n_frames - fading)], axis=1)
        out = np.zeros((2, n_frames))
        done = 0
        for segment in self._transport.advance(n_frames):
            part = slice(done, done + segment.n_frames)
            for track_id, (_, strip) in self._strips.items():
                played, left, right = strip.render(segment)
                out[0, part] += left
                out[1, part] += right
                if self.tap is not None and track_id == self.tapped_track_id:
                    self.tap(strip.read_raw(segment), played)
            done += segment.n_frames
        out *= self._match.take(n_frames)
        out *= self._dim.take(n_frames)
        reference = self._guard_reference()
        self._frame += n_frames
        return self._guard.push(out, reference)

    def _guard_reference(self) -> GuardReference | None:
        """Return the guard's reference while a probe sounds, or still fades out."""
        if self._mix.probe is not None:
            return self._mix.guard
        return self._fading_guard if self._frame < self._guarded_until else None

    def _make_strips(self, mix: Mix) -> None:
        audible = audible_tracks(mix)
        strips: dict[str, tuple[str, Strip]] = {}
        for track in mix.tracks:
            known = self._strips.get(track.id)
            if known is not None and known[0] == track.audio_id:
                known[1].apply(track, mix, audible=audible[track.id])
                strips[track.id] = known
            else:
                source = self._open_source(track.audio_id)
                strip = Strip(source, track, mix, audible=audible[track.id], sample_rate_hz=self._rate)
                strips[track.id] = (track.audio_id, strip)
        self._strips = strips

    def _preroll(self, start: int) -> None:
        left = preroll_frames(start, sample_rate_hz=self._rate)
        while left:
            count = min(left, PREROLL_CHUNK_FRAMES)
            segment = Segment(start - left, count, None, 0)
            for _, strip in self._strips.values():
                strip.render(segment)
            left -= count
