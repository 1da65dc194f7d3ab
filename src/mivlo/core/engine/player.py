"""The mix, block by block, with state: the same code plays live and renders to a file.

Rules that make both bit-equal (docs/method.md): play starts on the control grid, after a pre-roll of one
second through stages at rest; changes act at steps of the control grid; a loop's wrap carries all states on.
"""

import time
from collections import deque
from collections.abc import Callable, Iterator, Mapping, Sequence, Set
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np

from mivlo.core.engine.bus import Bus
from mivlo.core.engine.guard import Guard
from mivlo.core.engine.keys import Keys, OpenSource
from mivlo.core.engine.mix import GuardReference, Mix, audible_tracks, raw_sound_of, reshapes
from mivlo.core.engine.offcuts import OffcutsSource
from mivlo.core.engine.pipe import Pipe
from mivlo.core.engine.pipeline import SELDOM_FRAMES
from mivlo.core.engine.plan import audition_spec, ledger_specs
from mivlo.core.engine.ramp import STEPS, Ramp
from mivlo.core.engine.source import Source, SpansSource, Transport, read_looped
from mivlo.core.engine.strip import Strip, pan_gains, start_of_preroll
from mivlo.core.kernels.svf_chain import CONTROL_FRAMES
from mivlo.core.model import Group, StripBase, Track
from mivlo.core.processors.stage import StageSpec
from mivlo.core.processors.timed import Spans
from mivlo.core.units import Array, db_to_gain

__all__ = ["DIM_DB", "Blown", "Doing", "OpenSource", "Player", "on_grid"]

DIM_DB = -20.0
PROBE_FADE_FRAMES = (STEPS + 2) * CONTROL_FRAMES
EDITED_LATELY_S = 0.6  # since the last but one time
FORGET_EVERY_FRAMES = 8_192


@dataclass(frozen=True, slots=True)
class Blown:
    """A state that was not a number any more: it was reset, and the stretch was silent."""

    strip_id: str
    frame: int


@dataclass(frozen=True, slots=True)
class Doing:
    """What a move does at one moment: the level that it hears (None where it hears none), and its gains."""

    key: str
    level_db: float | None
    gains_db: Array  # (1,), or one for each of bands_hz
    bands_hz: Array


def on_grid(frame: int) -> int:
    """Return the last step of the control grid at or before a frame."""
    return frame // CONTROL_FRAMES * CONTROL_FRAMES


@dataclass(frozen=True, slots=True)
class _Mark:
    """What cannot be rendered again from the strips: how things stood behind them when play came to a frame."""

    frame: int
    mix: Mix
    guard: Guard
    pipe: Pipe
    guarded_until: int
    fading_guard: GuardReference


@dataclass
class _Node:
    """A strip with what it was made for."""

    strip: Strip
    state: StripBase
    offcuts_of: object = None
    edited_s: tuple[float, float] = (-1e9, -1e9)  # the last two times

    def edit(self) -> None:
        """Note that it has been edited."""
        self.edited_s = (self.edited_s[1], time.monotonic())

    def is_being_edited(self) -> bool:
        """Tell whether another edit is to be expected: of a track that was edited once, the next is as far as any."""
        return time.monotonic() - self.edited_s[0] < EDITED_LATELY_S


class Player:
    """Renders the mix from a start on; `open_source` returns the source of an audio id.

    With `live`, changes may come while it plays; without, only what is heard is rendered.
    """

    def __init__(
        self, mix: Mix, open_source: OpenSource, *, start_frame: int, sample_rate_hz: float, live: bool = True,
        workers: Executor | None = None,
    ) -> None:  # fmt: skip
        self._open_source = open_source
        self._rate = sample_rate_hz
        self._mix = mix
        self._live = live
        self._workers = workers
        self._start = self._frame = on_grid(start_frame)  # frames of the stream are those of the session until it wraps
        self._transport = Transport(self._frame, self._frame, mix.loop())
        self._keys = Keys(open_source, self._read_source)
        self._nodes: dict[str, _Node] = {}
        self._busses: dict[str, Bus] = {}
        self._plans: dict[str, tuple[object, list[StageSpec]]] = {}
        self.tapped_track_id: str | None = None
        self.tap: Callable[[Array, Array], None] | None = None
        self._guard = Guard(sample_rate_hz)
        self._match, self._dim = Ramp(db_to_gain(mix.match_db)), Ramp(db_to_gain(DIM_DB) if mix.dim else 1.0)
        self._pipe = Pipe(mix.pipe_hz, sample_rate_hz=sample_rate_hz)
        self._guarded_until, self._fading_guard = 0, mix.guard
        self._keys.update(mix, frame=self._frame)
        self._make_nodes(mix, starting=True)
        self._rest = np.zeros((2, 0))
        self._forgotten = self._frame
        self._kept_from: int | None = None  # where what was rendered may still be taken back
        self._marks: deque[_Mark] = deque()
        self._put_together_at = self._frame

    @property
    def position(self) -> int:
        """Return the session frame that is rendered next."""
        return self._transport.position_at(self._frame)

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
        return self._guard

    def strip(self, strip_id: str) -> Strip:
        """Return the strip of a track, a group or the mix; KeyError where there is none."""
        return self._nodes[strip_id].strip

    def keep_from(self, frame: int) -> None:
        """Keep what a change that is taken back to a stream frame (counted from the start), or later, will need."""
        self._kept_from = on_grid(self._start + frame)
        while len(self._marks) > 1 and self._marks[1].frame <= self._kept_from:
            self._marks.popleft()

    @property
    def fixed_frames(self) -> int:
        """Return the stream frame before which nothing can be taken back: there, the sound was put together anew."""
        strips = (node.strip.fixed_before for node in self._nodes.values())
        return max(self._put_together_at, *strips) - self._start

    def take_back(self, frame: int) -> int:
        """Go back to a stream frame, or to a little later; all changes after that are undone.

        Returns the stream frame at which a change made now acts. What leaves the guard next begins one control step
        before it.
        """
        goal = on_grid(self._start + max(frame, self.fixed_frames) + CONTROL_FRAMES - 1)
        mark = next((mark for mark in reversed(self._marks) if mark.frame <= goal), None)
        if mark is None or goal >= self._frame:
            return self.frame
        while self._marks[-1] is not mark:
            self._marks.pop()
        self._take_back_nodes(goal)
        self._match.take_back(goal)
        self._dim.take_back(goal)
        self._mix, self._pipe = mark.mix, mark.pipe.clone()
        peak, self._guard = self._guard.peak, mark.guard.clone()
        self._guard.peak = peak
        self._guarded_until, self._fading_guard = mark.guarded_until, mark.fading_guard
        self._frame, self._rest = mark.frame, np.zeros((2, 0))
        tap, self.tap = self.tap, None
        if goal > mark.frame:
            self.render_steps(goal - mark.frame)  # was heard already
        self.tap = tap
        return self.frame

    def _take_back_nodes(self, frame: int) -> None:
        changed_keys = self._keys.take_back(frame)
        changed: set[int] = set()
        for strip_id, node in self._nodes.items():  # members before their group, groups before the mix
            strip, bus = node.strip, self._busses.get(strip_id)
            stale = _listens(strip.specs, changed_keys)
            if bus is not None and any(id(member) in changed for member in bus.members):
                bus.cut(frame)
                stale = True
            if strip.take_back(frame, stale=stale):
                changed.add(id(strip))

    def apply(self, mix: Mix) -> None:
        """Glide to another mix from the next control step on; tracks with other audio start with stages at rest."""
        if reshapes(self._mix, mix):
            self._marks.clear()
            self._put_together_at = self._frame
        elif self._marks and self._marks[-1].frame == self._frame:
            self._marks.pop()  # it will be another one
        if self._mix.probes() and not mix.probes():
            self._fading_guard = self._mix.guard
            self._guarded_until = self._frame + PROBE_FADE_FRAMES
        loop_changed = mix.loop() != self._transport.loop
        if loop_changed:
            self._transport.set_loop(mix.loop(), frame=self._frame)
        self._mix = mix
        self._match.set_goal(db_to_gain(mix.match_db), frame=self._frame)
        self._pipe.set_goal(mix.pipe_hz, frame=self._frame)
        self._dim.set_goal(db_to_gain(DIM_DB) if mix.dim else 1.0, frame=self._frame)
        self._make_nodes(
            mix, starting=False, stale=loop_changed, changed_keys=self._keys.update(mix, frame=self._frame)
        )

    def takes_long(self, mix: Mix) -> bool:
        """Tell whether a change to a mix would hold up play for long, were it not prepared.

        Raises
        ------
        ParameterError: a move that does not fit the rate
        """
        return any(spec.takes_long() for spec, _ in self._other_linear_specs(mix))

    def prepare(self, mix: Mix) -> None:
        """Compute what a change to a mix will need and takes long; for a thread of its own, while play goes on.

        Raises
        ------
        ParameterError: a move that does not fit the rate
        """
        for spec, n_channels in self._other_linear_specs(mix):
            spec.prepare(n_channels, self._rate)

    def _other_linear_specs(self, mix: Mix) -> Iterator[tuple[StageSpec, int]]:
        """Yield stages, with their channels, of ledgers in linear phase that are not as they play; no others take
        long."""
        for state in (*mix.tracks, *mix.groups, mix.master):
            node = self._nodes.get(state.id)
            same = node is not None and (node.state.ledger, node.state.ledger_on, node.state.phase) == (
                state.ledger, state.ledger_on, state.phase,
            )  # fmt: skip
            if state.phase == "linear" and state.ledger and not same:
                n_channels = self._open_source(state.audio_id).n_channels if isinstance(state, Track) else 2
                for spec in ledger_specs(state, sample_rate_hz=self._rate, read_weights=self._read_weights):
                    yield spec, n_channels

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
        first = self._frame
        if self._kept_from is not None and not (self._marks and self._marks[-1].frame == first):
            self._mark()
        self._extend_together(first + n_frames)
        out = self._nodes[self._mix.master.id].strip.read(first, n_frames)
        self._call_tap(first, n_frames)
        self._frame += n_frames
        self._forget()
        out *= self._match.take(first, n_frames)
        self._pipe.add_to(out, first)
        out *= self._dim.take(first, n_frames)
        return self._guard.push(out, self._guard_reference(first))

    def _mark(self) -> None:
        self._marks.append(
            _Mark(
                self._frame,
                self._mix,
                self._guard.clone(),
                self._pipe.clone(),
                self._guarded_until,
                self._fading_guard,
            )
        )

    @property
    def _needed_from(self) -> int:
        """Return the frame before which nobody will read any more."""
        return min(self._frame, self._marks[0].frame) if self._marks else self._frame

    def work_ahead(self, ahead_frames: int) -> int:
        """Render some of what is not being edited ahead of the play position; returns how many frames of one track.

        For a thread of its own: what is rendered ahead is what would be rendered later, and a change takes it back.
        """
        self._sort_out_the_edited()
        strips = [node.strip for node in list(self._nodes.values())]
        behind = [strip for strip in strips if strip.seldom and strip.ready_until < self._frame + ahead_frames]
        if not behind:
            return 0
        strip = min(behind, key=lambda one: one.ready_until)
        strip.extend((strip.ready_until // SELDOM_FRAMES + 1) * SELDOM_FRAMES)
        strip.forget_before(self._needed_from)
        return SELDOM_FRAMES

    def stop_working_ahead(self) -> None:
        """Let everything be rendered when it is needed, in small blocks, until somebody works ahead again."""
        for node in self._nodes.values():
            node.strip.seldom = False

    def _sort_out_the_edited(self) -> None:
        """Let tracks that nobody edits be rendered in large blocks, where the session is worked ahead at all."""
        for node in list(self._nodes.values()):
            node.strip.seldom = not (isinstance(node.state, Group) or node.is_being_edited())

    @property
    def n_tracks(self) -> int:
        """Return how many tracks are rendered."""
        return len(self._nodes) - len(self._busses)

    def watch(self, strip_id: str | None) -> None:
        """Tap a track, a group or the mix, and keep what its moves do."""
        if strip_id != self.tapped_track_id and self.tapped_track_id in self._nodes:
            self._nodes[self.tapped_track_id].strip.trace(False)
        self.tapped_track_id = strip_id
        if strip_id in self._nodes:
            self._nodes[strip_id].strip.trace(True)

    def doings(self, strip_id: str) -> list[Doing]:
        """Return what the moves of a watched strip do at the play position."""
        if strip_id not in self._nodes:
            return []
        found = []
        for key, traces in self._nodes[strip_id].strip.traces().items():
            trace = next((one for one in reversed(traces) if one.frame <= self._frame), None)
            if trace is not None and len(trace.gain_db):
                index = min((self._frame - trace.frame) // trace.step_frames, len(trace.gain_db) - 1)
                level = float(trace.level_db[index]) if len(trace.level_db) else None
                found.append(Doing(key, level, np.atleast_1d(trace.gain_db[index]), trace.bands_hz))
        return found

    def blown(self) -> list[Blown]:
        """Return which states were reset since the last call."""
        found = []
        for strip_id, node in self._nodes.items():
            found += [Blown(strip_id, frame) for frame in node.strip.blown]
            node.strip.blown.clear()
        return found

    def _extend_together(self, until: int) -> None:
        """Let all tracks be rendered by the workers at once, as far as what comes behind them reads ahead."""
        if self._workers is None:
            return
        ahead = {group.id: self._latency_of(group.id) for group in (*self._mix.groups, self._mix.master)}
        reach = until + ahead[self._mix.master.id]
        needed = [
            (self._nodes[track.id].strip, reach + ahead.get(track.group_id or "", 0))
            for track in self._mix.tracks
            if track.id in self._nodes
        ]
        list(self._workers.map(lambda one: one[0].extend(one[1]), needed))

    def _latency_of(self, strip_id: str) -> int:
        return self._nodes[strip_id].strip.latency_frames

    def _forget(self) -> None:
        """Let go of what has been played, from time to time."""
        if self._frame - self._forgotten < FORGET_EVERY_FRAMES:
            return
        self._forgotten = self._frame
        for node in self._nodes.values():
            if not node.strip.seldom:  # whoever works ahead does it there
                node.strip.forget_before(self._needed_from)
        for bus in self._busses.values():
            bus.forget_before(self._needed_from)

    def _call_tap(self, frame: int, n_frames: int) -> None:
        if self.tap is not None and self.tapped_track_id in self._nodes:
            strip = self._nodes[self.tapped_track_id].strip
            self.tap(strip.read_raw(frame, n_frames), strip.read(frame, n_frames))

    def _guard_reference(self, frame: int) -> GuardReference | None:
        """Return the guard's reference while a probe sounds, or still fades out."""
        if self._mix.probes():
            return self._mix.guard
        return self._fading_guard if frame < self._guarded_until else None

    def _position_of(self, frame: int) -> int:
        """Return the session frame at a frame of the stream."""
        return self._transport.position_at(frame)

    def _read_source(self, source: Source, start_frame: int, frame: int, n_frames: int) -> Array:
        parts = [read_looped(source, segment, start_frame) for segment in self._transport.segments(frame, n_frames)]
        return parts[0] if len(parts) == 1 else np.concatenate(parts, axis=1)

    def _read_weights(self, spans: Spans, frame: int, n_frames: int) -> Array:
        """Return (frames,) from 0 to 1: how far a move with times acts, where the stream stands in the session."""
        return np.asarray(self._read_source(SpansSource(spans, self._rate), 0, frame, n_frames)[0])

    def _make_nodes(
        self, mix: Mix, *, starting: bool, stale: bool = False, changed_keys: Set[str] = frozenset()
    ) -> None:  # fmt: skip
        """Bring all strips up to date, members before their group, groups before the mix."""
        audible = audible_tracks(mix)
        heard = [track for track in mix.tracks if self._live or audible[track.id]]
        starts = self._starting_frames(mix) if starting else {}
        nodes: dict[str, _Node] = {}
        changed: set[str] = set()
        for track in heard:
            specs = self._specs(track, mix)
            node = self._nodes.get(track.id)
            if node is None or track.id in self._busses or raw_sound_of(node.state) != raw_sound_of(track):
                node = self._new_track(track, specs, starts.get(track.id, self._frame))
                changed.add(track.id)
            elif node.strip.apply(specs, frame=self._frame, stale=stale or _listens(specs, changed_keys)):
                changed.add(track.id)
                node.edit()
            gain = (-1.0 if track.polarity_flipped else 1.0) * db_to_gain(track.gain_db) if audible[track.id] else 0.0
            left, right = pan_gains(track.pan, n_channels=node.strip.n_channels)
            if self._aim(node, track, mix, gain * left, gain * right, starting=starting):
                changed.add(track.id)
            nodes[track.id] = node
        groups = {group.id for group in mix.groups}
        for group in (*mix.groups, mix.master):
            specs = self._specs(group, mix)
            member_ids = [track.id for track in heard if track.group_id == group.id]
            if group is mix.master:
                member_ids = [*groups, *(track.id for track in heard if track.group_id not in groups)]
            members = [nodes[member_id].strip for member_id in sorted(member_ids)]
            node = self._nodes.get(group.id)
            if node is None or group.id not in self._busses:
                node = self._new_bus(group, specs, members, starts.get(group.id, self._frame))
                changed.add(group.id)
            else:
                bus = self._busses[group.id]
                other = stale or members != list(bus.members) or any(member_id in changed for member_id in member_ids)
                bus.members = members
                if other:
                    bus.cut(self._frame)
                if node.strip.apply(specs, frame=self._frame, stale=other or _listens(specs, changed_keys)):
                    changed.add(group.id)
            gain = db_to_gain(group.gain_db)
            if self._aim(node, group, mix, gain, gain, starting=starting):
                changed.add(group.id)
            nodes[group.id] = node
        self._nodes = nodes
        self._busses = {group.id: self._busses[group.id] for group in (*mix.groups, mix.master)}

    def _starting_frames(self, mix: Mix) -> Mapping[str, int]:
        """Return where each strip starts: members of what has a ledger must sound during its pre-roll."""
        rate = self._rate
        inner = start_of_preroll(self._frame, sample_rate_hz=rate) if mix.master.ledger else self._frame
        starts = {mix.master.id: self._frame}
        for group in mix.groups:
            starts[group.id] = inner
        for track in mix.tracks:
            group_of = next((group for group in mix.groups if group.id == track.group_id), None)
            treated = group_of is not None and bool(group_of.ledger)
            starts[track.id] = start_of_preroll(inner, sample_rate_hz=rate) if treated else inner
        return starts

    def _specs(self, state: StripBase, mix: Mix) -> list[StageSpec]:
        """Return the stages of a strip; planned anew only where something of it is another than before."""
        probe = tuple((probe, probe is mix.probe) for probe in mix.probes() if probe.track_id == state.id)
        heard_slice = mix.slice if mix.slice is not None and mix.slice.track_id == state.id else None
        plan = (state.ledger, state.ledger_on, state.phase, state.keepers, probe, heard_slice)
        known = self._plans.get(state.id)
        if known is None or known[0] != plan:
            specs = ledger_specs(state, sample_rate_hz=self._rate, read_weights=self._read_weights)
            if self._live or probe or heard_slice:
                specs.append(audition_spec(state, mix, sample_rate_hz=self._rate))
            self._plans[state.id] = known = (plan, specs)
        return known[1]

    def _new_track(self, track: Track, specs: list[StageSpec], frame: int) -> _Node:
        source = self._open_source(track.audio_id)

        def read_raw(at: int, n_frames: int) -> Array:
            return self._read_source(source, track.start_frame, at, n_frames)

        strip = Strip(
            read_raw,
            self._keys.read,
            source.n_channels,
            specs,
            frame=frame,
            sample_rate_hz=self._rate,
            rewindable=self._live,
        )
        return _Node(strip, track)

    def _new_bus(self, group: Group, specs: list[StageSpec], members: list[Strip], frame: int) -> _Node:
        first = start_of_preroll(frame, sample_rate_hz=self._rate) if group.ledger else frame
        bus = Bus(frame=first, sample_rate_hz=self._rate)
        bus.members = members
        self._busses[group.id] = bus
        strip = Strip(
            bus.read, self._keys.read, 2, specs, frame=frame, sample_rate_hz=self._rate, rewindable=self._live
        )
        return _Node(strip, group)

    def _aim(self, node: _Node, state: StripBase, mix: Mix, left: float, right: float, *, starting: bool) -> bool:
        """Set a strip's fader, and what is heard in its place; returns whether anything of it changes."""
        strip, node.state = node.strip, state
        changed = (left, right) != (strip.left.goal, strip.right.goal)
        if starting:
            strip.left, strip.right = Ramp(left), Ramp(right)
        strip.left.set_goal(left, frame=self._frame)
        strip.right.set_goal(right, frame=self._frame)
        wanted = tuple(entry.move for entry in state.ledger) if mix.offcuts_track_id == state.id else None
        if wanted != node.offcuts_of:
            node.offcuts_of = wanted
            offcuts = (
                None if wanted is None else OffcutsSource(strip, state, self._position_of, sample_rate_hz=self._rate)
            )
            strip.aim_extra(offcuts, frame=self._frame, starting=starting)
            changed = True
        return changed


def _listens(specs: Sequence[StageSpec], changed_keys: Set[str]) -> bool:
    return any(spec.listens_to() in changed_keys for spec in specs)
