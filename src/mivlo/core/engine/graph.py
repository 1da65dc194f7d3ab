"""The graph of strips: tracks into groups, groups into groups, sends beside them, and all into the mix.

It is built from a mix, changed, rendered ahead and taken back. Every strip reads ahead by the latency of its own
stages, so whatever way sound takes, it arrives at its own frame. Frames are those of the stream; what lies behind the
mix (`monitoring`) and who listens are not known here.
"""

from collections import deque
from collections.abc import Iterator, Mapping, Sequence, Set
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np

from mivlo.core.engine.audible import Audible
from mivlo.core.engine.audition import Audition, audition_spec, is_auditioned
from mivlo.core.engine.bus import Bus
from mivlo.core.engine.keys import Keys, OpenSource
from mivlo.core.engine.layout import OUT, Laid, Layout, laid_out
from mivlo.core.engine.mix import Mix, raw_sound_of
from mivlo.core.engine.plan import ledger_specs
from mivlo.core.engine.ramp import Ramp
from mivlo.core.engine.source import Source, SpansSource, Transport, read_looped
from mivlo.core.engine.strip import ReadRaw, Strip, memory_of, pan_gains, start_of_preroll
from mivlo.core.model import Group, Route, StripBase, Track
from mivlo.core.processors.stage import StageSpec
from mivlo.core.processors.timed import Spans
from mivlo.core.units import Array, db_to_gain

__all__ = ["Graph"]

FORGET_EVERY_FRAMES = 8_192


@dataclass
class _Node:
    """A strip with what it was made for; of a group and the mix, with what goes into it."""

    strip: Strip
    state: StripBase
    audition: Audition
    bus: Bus | None


@dataclass(frozen=True, slots=True)
class _Start:
    """Where a strip begins when play starts: heard from a frame on, its stages at rest at an earlier one."""

    frame: int
    at_rest: int


class Graph:
    """All strips of a mix from a frame on; `open_source` returns the source of an audio id.

    With `live`, changes may come while it plays; without, only what is heard is rendered.
    """

    def __init__(
        self, mix: Mix, open_source: OpenSource, *, start: int, sample_rate_hz: float, live: bool,
        workers: Executor | None,
    ) -> None:  # fmt: skip
        self._open_source = open_source
        self._rate = sample_rate_hz
        self._live = live
        self._workers = workers
        self._mix, self._layout = mix, laid_out(mix)
        self._transport = Transport(start, start, mix.loop())
        self._keys = Keys(mix, open_source, self._read_source, frame=start)
        self._nodes: dict[str, _Node] = {}  # sources before those whose sound they go into
        self._before: deque[tuple[int, dict[str, _Node]]] = deque()  # until which frame there were others
        self._plans: dict[str, tuple[object, list[StageSpec]]] = {}
        self._forgotten = start
        self._make_nodes(frame=start, starting=True)

    @property
    def strips(self) -> Mapping[str, Strip]:
        """Return the strips by the ids of their tracks, groups and the mix."""
        return {strip_id: node.strip for strip_id, node in self._nodes.items()}

    def strip(self, strip_id: str | None) -> Strip | None:
        """Return the strip that is heard as a track, a group or the mix; None where there is none."""
        node = self._nodes.get(self._layout.names.get(strip_id or "", ""))
        return None if node is None else node.strip

    @property
    def n_tracks(self) -> int:
        """Return how many tracks are rendered."""
        return len(self.tracks)

    @property
    def tracks(self) -> Mapping[str, Strip]:
        """Return the strips of the tracks."""
        return {strip_id: node.strip for strip_id, node in self._nodes.items() if node.bus is None}

    @property
    def fixed_before(self) -> int:
        """Return the frame before which nothing of any strip can be taken back."""
        return max(node.strip.fixed_before for node in self._nodes.values())

    def position_of(self, frame: int) -> int:
        """Return the session frame at a frame of the stream."""
        return self._transport.position_at(frame)

    def read(self, frame: int, n_frames: int) -> Array:
        """Return (2, n_frames) of the mix, before its monitoring."""
        self._extend_together(frame + n_frames)
        return self._nodes[OUT.id].strip.read(frame, n_frames)

    def apply(self, mix: Mix, *, frame: int) -> set[str]:
        """Glide to another mix from a frame on; tracks with other audio start with stages at rest.

        Returns the ids of the strips whose moves are others than before.
        """
        layout = laid_out(mix)
        self._let_go_of_ways(layout, frame=frame)
        loop_changed = mix.loop() != self._transport.loop
        if loop_changed:
            self._transport.set_loop(mix.loop(), frame=frame)
        self._mix, self._layout = mix, layout
        changed_keys = self._keys.update(mix, frame=frame)
        return self._make_nodes(frame=frame, starting=False, stale=loop_changed, changed_keys=changed_keys)

    def take_back(self, frame: int, mix: Mix) -> None:
        """Undo all changes later than a frame, at which a mix was played."""
        self._mix, self._layout = mix, laid_out(mix)
        while self._before and self._before[-1][0] > frame:
            self._nodes = self._before.pop()[1]
        self._keys.take_back(frame)
        changed: set[int] = set()
        for node in self._nodes.values():
            stale = False  # who has listened to what is undone has changed with it, and is undone by that
            if node.bus is not None:
                other_ways = node.bus.take_back(frame)
                if other_ways or any(id(way.strip) in changed for way in node.bus.ways):
                    node.bus.cut(frame)
                    stale = True
            if node.strip.take_back(frame, stale=stale):
                changed.add(id(node.strip))

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
        for one in laid_out(mix).strips:
            state, node = one.state, self._nodes.get(one.id)
            same = node is not None and (
                node.state.ledger, node.state.ledger_on, node.state.phase, node.state.amount,
            ) == (state.ledger, state.ledger_on, state.phase, state.amount)  # fmt: skip
            if state.phase == "linear" and state.ledger and not same:
                n_channels = self._open_source(state.audio_id).n_channels if isinstance(state, Track) else 2
                for spec in ledger_specs(state, sample_rate_hz=self._rate, read_weights=self._read_weights):
                    yield spec, n_channels

    def forget_before(self, needed_from: int, *, frame: int) -> None:
        """Let go of what nobody reads any more, from time to time as play comes to frames."""
        if frame - self._forgotten < FORGET_EVERY_FRAMES:
            return
        self._forgotten = frame
        for node in self._nodes.values():
            if not node.strip.far_ahead:  # whoever works ahead does it there
                node.strip.forget_before(needed_from)
            if node.bus is not None:
                node.bus.forget_before(needed_from)
        while self._before and self._before[0][0] <= needed_from:
            self._before.popleft()

    def _extend_together(self, until: int) -> None:
        """Let all tracks be rendered by the workers at once, as far as what comes behind them reads ahead."""
        if self._workers is None:
            return
        reach = {OUT.id: until}
        for strip_id, node in reversed(self._nodes.items()):
            for way in node.bus.ways if node.bus is not None else ():
                source_id = way.key[0]
                reach[source_id] = max(reach.get(source_id, until), reach[strip_id] + node.strip.latency_frames)
        needed = [(strip, reach[track_id]) for track_id, strip in self.tracks.items()]
        list(self._workers.map(lambda one: one[0].extend(one[1]), needed))

    def _read_source(self, source: Source, start_frame: int, frame: int, n_frames: int) -> Array:
        parts = [read_looped(source, segment, start_frame) for segment in self._transport.segments(frame, n_frames)]
        return parts[0] if len(parts) == 1 else np.concatenate(parts, axis=1)

    def _read_weights(self, spans: Spans, frame: int, n_frames: int) -> Array:
        """Return (frames,) from 0 to 1: how far a move with times acts, where the stream stands in the session."""
        return np.asarray(self._read_source(SpansSource(spans, self._rate), 0, frame, n_frames)[0])

    def _make_nodes(
        self, *, frame: int, starting: bool, stale: bool = False, changed_keys: Set[str] = frozenset()
    ) -> set[str]:  # fmt: skip
        """Bring all strips up to date from a frame on, sources before those whose sound they go into.

        Returns the ids of the strips whose moves are others than before.
        """
        mix, heard = self._mix, self._layout.heard
        strips = [
            one for one in self._layout.strips
            if self._live or isinstance(one.state, Group) or one.id in heard.strip_ids
        ]  # fmt: skip
        specs = {one.id: self._specs(one) for one in strips}
        starts = self._starts(frame) if starting else {}
        nodes: dict[str, _Node] = {}
        changed: set[str] = set()
        edited: set[str] = set()
        for one in strips:
            strip_id, state = one.id, one.state
            node = self._node_of(one)
            start = starts[strip_id] if starting else _Start(frame, frame)
            if node is None and not starting:
                start = _Start(frame, self._at_rest(frame, memory_of(specs[strip_id], sample_rate_hz=self._rate)))
            bus = node.bus if node is not None else self._new_bus(state, start)
            other = stale
            if bus is not None:
                other |= bus.lead(self._ways_into(strip_id, heard, nodes), frame=frame, starting=starting)
                if other or any(way.key[0] in changed for way in bus.ways):
                    bus.cut(frame)
                    other = True
            if node is None:
                node = self._new_node(state, bus, specs[strip_id], start)
                changed.add(strip_id)
            else:
                # What fades out has listened as well.
                other |= _listens((*node.strip.specs, *specs[strip_id]), changed_keys)
                if node.strip.apply(specs[strip_id], frame=frame, stale=other):
                    changed.add(strip_id)
                    edited.add(strip_id)
            node.state = state
            faded = self._set_fader(node, is_up=strip_id in heard.strip_ids, frame=frame, starting=starting)
            if node.audition.aim(state, mix, frame=frame, starting=starting) or faded:
                changed.add(strip_id)
            nodes[strip_id] = node
        if list(map(id, nodes.values())) != list(map(id, self._nodes.values())):
            self._before.append((frame, self._nodes))
        self._nodes = nodes
        return edited

    def _node_of(self, one: Laid) -> _Node | None:
        """Return the node that goes on as a strip; None where there is none of the same kind and raw sound."""
        node, state = self._nodes.get(one.id), one.state
        same = node is not None and isinstance(node.state, Track) == isinstance(state, Track)
        return node if same and node is not None and raw_sound_of(node.state) == raw_sound_of(state) else None

    def _let_go_of_ways(self, layout: Layout, *, frame: int) -> None:
        """Fade out all ways that will not be there from a frame on; before anything else of the change is made."""
        nodes, heard = map(self._node_of, layout.strips), layout.heard
        going_on = {id(node.strip) for node in nodes if node is not None}
        keys = {route.key for route in (*heard.open_routes, *heard.closed_routes)}
        gone = [
            (node.bus, [way for way in node.bus.ways if way.key not in keys or id(way.strip) not in going_on])
            for node in self._nodes.values()
            if node.bus is not None and id(node.strip) in going_on
        ]
        fading = [bus.fading(ways, frame=frame) for bus, ways in gone]
        for (bus, ways), tails in zip(gone, fading, strict=True):
            if ways:
                bus.let_go(ways, tails, frame=frame)

    def _ways_into(
        self, group_id: str, heard: Audible, nodes: Mapping[str, _Node]
    ) -> Iterator[tuple[Route, Strip, float]]:
        """Yield the ways into a group, each with its strip and gain."""
        routes = {route: True for route in heard.open_routes} | dict.fromkeys(heard.closed_routes, False)
        for route in routes:
            if route.target_id == group_id and route.source_id in nodes:
                # Where the fader is down, the way stays as it is: a mute is one fade, not two.
                is_open = routes[route] or route.source_id not in heard.strip_ids
                yield route, nodes[route.source_id].strip, db_to_gain(route.send_db or 0.0) if is_open else 0.0

    def _starts(self, frame: int) -> Mapping[str, _Start]:
        """Return where each strip begins: it sounds during the pre-rolls of all that it goes into.

        A pre-roll is as long as the longest memory of any stage on the way from there to the mix.
        """
        routes = (*self._layout.heard.open_routes, *self._layout.heard.closed_routes)
        behind_s = {OUT.id: 0.0}  # the longest memory behind each strip, and from its own stages on
        from_here_s: dict[str, float] = {}
        for one in reversed(self._layout.strips):
            targets = [route.target_id for route in routes if route.source_id == one.id]
            behind_s[one.id] = max((from_here_s[target] for target in targets), default=0.0)
            own_s = memory_of(self._ledger_specs(one), sample_rate_hz=self._rate)
            from_here_s[one.id] = max(own_s, behind_s[one.id])

        return {
            one: _Start(self._at_rest(frame, behind_s[one]), self._at_rest(frame, from_here_s[one])) for one in behind_s
        }

    def _at_rest(self, frame: int, memory_s: float) -> int:
        """Return where stages of a memory are at rest, so that they can be heard from a frame on."""
        return start_of_preroll(frame, memory_s=memory_s, sample_rate_hz=self._rate)

    def _specs(self, one: Laid) -> list[StageSpec]:
        """Return the stages of a strip: those of its ledger, and what is heard of it for its own sake."""
        specs, state = self._ledger_specs(one), one.state
        if self._live or is_auditioned(state, self._mix):
            specs = [*specs, audition_spec(state, self._mix, sample_rate_hz=self._rate)]
        return specs

    def _ledger_specs(self, one: Laid) -> list[StageSpec]:
        """Return the stages of a ledger; planned anew only where something of it is another than before."""
        state = one.state
        plan = (state.ledger, state.ledger_on, state.phase, state.amount, state.keepers)
        known = self._plans.get(one.id)
        if known is None or known[0] != plan:
            specs = ledger_specs(state, sample_rate_hz=self._rate, read_weights=self._read_weights)
            self._plans[one.id] = known = (plan, specs)
        return known[1]

    def _new_bus(self, state: StripBase, start: _Start) -> Bus | None:
        return Bus(frame=start.at_rest, sample_rate_hz=self._rate) if isinstance(state, Group) else None

    def _new_node(self, state: StripBase, bus: Bus | None, specs: list[StageSpec], start: _Start) -> _Node:
        read_raw, n_channels = self._input_of(state) if bus is None else (bus.read, 2)
        strip = Strip(
            read_raw, self._keys.read, n_channels, specs, frame=start.frame,
            at_rest=start.at_rest, sample_rate_hz=self._rate, rewindable=self._live,
        )  # fmt: skip
        return _Node(strip, state, Audition(strip, self.position_of, sample_rate_hz=self._rate), bus)

    def _input_of(self, state: StripBase) -> tuple[ReadRaw, int]:
        """Return how a track's own sound is read, and of how many channels it is."""
        assert isinstance(state, Track)
        source, start_frame = self._open_source(state.audio_id), state.start_frame

        def read_raw(at: int, n_frames: int) -> Array:
            return self._read_source(source, start_frame, at, n_frames)

        return read_raw, source.n_channels

    def _set_fader(self, node: _Node, *, is_up: bool, frame: int, starting: bool) -> bool:
        """Glide to a strip's level and place from a frame on; returns whether anything of it changes."""
        strip, state = node.strip, node.state
        left, right = 1.0, 1.0
        gain = db_to_gain(state.gain_db) if is_up else 0.0
        if isinstance(state, Track):
            left, right = pan_gains(state.pan, n_channels=strip.n_channels)
            gain = -gain if state.polarity_flipped else gain
        goals = (gain * left, gain * right)
        changed = goals != (strip.left.goal, strip.right.goal)
        if starting:
            strip.left, strip.right = (Ramp(goal) for goal in goals)
        strip.left.set_goal(goals[0], frame=frame)
        strip.right.set_goal(goals[1], frame=frame)
        return changed


def _listens(specs: Sequence[StageSpec], changed_keys: Set[str]) -> bool:
    return any(spec.listens_to() in changed_keys for spec in specs)
