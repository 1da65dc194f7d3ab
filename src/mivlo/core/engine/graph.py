"""The graph of strips: tracks into groups into the mix, built from a mix, changed, rendered ahead and taken back.

Frames are those of the stream; what lies behind the mix (`monitoring`) and who listens are not known here.
"""

import time
from collections.abc import Iterator, Mapping, Sequence, Set
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np

from mivlo.core.engine.bus import Bus
from mivlo.core.engine.keys import Keys, OpenSource
from mivlo.core.engine.mix import Mix, audible_tracks, raw_sound_of
from mivlo.core.engine.offcuts import OffcutsSource
from mivlo.core.engine.pipeline import SELDOM_FRAMES
from mivlo.core.engine.plan import audition_spec, ledger_specs
from mivlo.core.engine.ramp import Ramp
from mivlo.core.engine.source import Source, SpansSource, Transport, read_looped
from mivlo.core.engine.strip import Strip, pan_gains, start_of_preroll
from mivlo.core.model import Group, StripBase, Track
from mivlo.core.processors.stage import StageSpec
from mivlo.core.processors.timed import Spans
from mivlo.core.units import Array, db_to_gain

__all__ = ["Graph"]

EDITED_LATELY_S = 0.6  # since the last but one time
FORGET_EVERY_FRAMES = 8_192


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
        self._mix = mix
        self._transport = Transport(start, start, mix.loop())
        self._keys = Keys(open_source, self._read_source)
        self._nodes: dict[str, _Node] = {}
        self._busses: dict[str, Bus] = {}
        self._plans: dict[str, tuple[object, list[StageSpec]]] = {}
        self._forgotten = start
        self._keys.update(mix, frame=start)
        self._make_nodes(start, starting=True)

    @property
    def strips(self) -> Mapping[str, Strip]:
        """Return the strips by the ids of their tracks, groups and the mix."""
        return {strip_id: node.strip for strip_id, node in self._nodes.items()}

    def strip(self, strip_id: str | None) -> Strip | None:
        """Return the strip of a track, a group or the mix; None where there is none."""
        node = self._nodes.get(strip_id or "")
        return None if node is None else node.strip

    @property
    def n_tracks(self) -> int:
        """Return how many tracks are rendered."""
        return len(self._nodes) - len(self._busses)

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
        return self._nodes[self._mix.master.id].strip.read(frame, n_frames)

    def apply(self, mix: Mix, *, frame: int) -> None:
        """Glide to another mix from a frame on; tracks with other audio start with stages at rest."""
        loop_changed = mix.loop() != self._transport.loop
        if loop_changed:
            self._transport.set_loop(mix.loop(), frame=frame)
        self._mix = mix
        changed_keys = self._keys.update(mix, frame=frame)
        self._make_nodes(frame, starting=False, stale=loop_changed, changed_keys=changed_keys)

    def take_back(self, frame: int, mix: Mix) -> None:
        """Undo all changes later than a frame, at which a mix was played."""
        self._mix = mix
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

    def work_ahead(self, until: int, *, needed_from: int) -> int:
        """Render some of what is not being edited ahead; returns how many frames of one track.

        For a thread of its own: what is rendered ahead is what would be rendered later, and a change takes it back.
        """
        self._sort_out_the_edited()
        strips = [node.strip for node in list(self._nodes.values())]
        behind = [strip for strip in strips if strip.seldom and strip.ready_until < until]
        if not behind:
            return 0
        strip = min(behind, key=lambda one: one.ready_until)
        strip.extend((strip.ready_until // SELDOM_FRAMES + 1) * SELDOM_FRAMES)
        strip.forget_before(needed_from)
        return SELDOM_FRAMES

    def stop_working_ahead(self) -> None:
        """Let everything be rendered when it is needed, in small blocks, until somebody works ahead again."""
        for node in self._nodes.values():
            node.strip.seldom = False

    def _sort_out_the_edited(self) -> None:
        """Let tracks that nobody edits be rendered in large blocks, where the session is worked ahead at all."""
        for node in list(self._nodes.values()):
            node.strip.seldom = not (isinstance(node.state, Group) or node.is_being_edited())

    def forget_before(self, needed_from: int, *, frame: int) -> None:
        """Let go of what nobody reads any more, from time to time as play comes to frames."""
        if frame - self._forgotten < FORGET_EVERY_FRAMES:
            return
        self._forgotten = frame
        for node in self._nodes.values():
            if not node.strip.seldom:  # whoever works ahead does it there
                node.strip.forget_before(needed_from)
        for bus in self._busses.values():
            bus.forget_before(needed_from)

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

    def _read_source(self, source: Source, start_frame: int, frame: int, n_frames: int) -> Array:
        parts = [read_looped(source, segment, start_frame) for segment in self._transport.segments(frame, n_frames)]
        return parts[0] if len(parts) == 1 else np.concatenate(parts, axis=1)

    def _read_weights(self, spans: Spans, frame: int, n_frames: int) -> Array:
        """Return (frames,) from 0 to 1: how far a move with times acts, where the stream stands in the session."""
        return np.asarray(self._read_source(SpansSource(spans, self._rate), 0, frame, n_frames)[0])

    def _make_nodes(
        self, frame: int, *, starting: bool, stale: bool = False, changed_keys: Set[str] = frozenset()
    ) -> None:
        """Bring all strips up to date from a frame on, members before their group, groups before the mix."""
        mix = self._mix
        audible = audible_tracks(mix)
        heard = [track for track in mix.tracks if self._live or audible[track.id]]
        starts = self._starting_frames(frame) if starting else {}
        nodes: dict[str, _Node] = {}
        changed: set[str] = set()
        for track in heard:
            specs = self._specs(track)
            node = self._nodes.get(track.id)
            if node is None or track.id in self._busses or raw_sound_of(node.state) != raw_sound_of(track):
                node = self._new_track(track, specs, starts.get(track.id, frame))
                changed.add(track.id)
            elif node.strip.apply(specs, frame=frame, stale=stale or _listens(specs, changed_keys)):
                changed.add(track.id)
                node.edit()
            gain = (-1.0 if track.polarity_flipped else 1.0) * db_to_gain(track.gain_db) if audible[track.id] else 0.0
            left, right = pan_gains(track.pan, n_channels=node.strip.n_channels)
            if self._aim(node, track, (gain * left, gain * right), frame=frame, starting=starting):
                changed.add(track.id)
            nodes[track.id] = node
        groups = {group.id for group in mix.groups}
        for group in (*mix.groups, mix.master):
            specs = self._specs(group)
            member_ids = [track.id for track in heard if track.group_id == group.id]
            if group is mix.master:
                member_ids = [*groups, *(track.id for track in heard if track.group_id not in groups)]
            members = [nodes[member_id].strip for member_id in sorted(member_ids)]
            node = self._nodes.get(group.id)
            if node is None or group.id not in self._busses:
                node = self._new_bus(group, specs, members, starts.get(group.id, frame))
                changed.add(group.id)
            else:
                bus = self._busses[group.id]
                other = stale or members != list(bus.members) or any(member_id in changed for member_id in member_ids)
                bus.members = members
                if other:
                    bus.cut(frame)
                if node.strip.apply(specs, frame=frame, stale=other or _listens(specs, changed_keys)):
                    changed.add(group.id)
            gain = db_to_gain(group.gain_db)
            if self._aim(node, group, (gain, gain), frame=frame, starting=starting):
                changed.add(group.id)
            nodes[group.id] = node
        self._nodes = nodes
        self._busses = {group.id: self._busses[group.id] for group in (*mix.groups, mix.master)}

    def _starting_frames(self, frame: int) -> Mapping[str, int]:
        """Return where each strip starts: members of what has a ledger must sound during its pre-roll."""
        rate, mix = self._rate, self._mix
        inner = start_of_preroll(frame, sample_rate_hz=rate) if mix.master.ledger else frame
        starts = {mix.master.id: frame}
        for group in mix.groups:
            starts[group.id] = inner
        for track in mix.tracks:
            group_of = next((group for group in mix.groups if group.id == track.group_id), None)
            treated = group_of is not None and bool(group_of.ledger)
            starts[track.id] = start_of_preroll(inner, sample_rate_hz=rate) if treated else inner
        return starts

    def _specs(self, state: StripBase) -> list[StageSpec]:
        """Return the stages of a strip; planned anew only where something of it is another than before."""
        mix = self._mix
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

    def _aim(self, node: _Node, state: StripBase, gains: tuple[float, float], *, frame: int, starting: bool) -> bool:
        """Set a strip's fader, and what is heard in its place; returns whether anything of it changes."""
        strip, node.state = node.strip, state
        left, right = gains
        changed = (left, right) != (strip.left.goal, strip.right.goal)
        if starting:
            strip.left, strip.right = Ramp(left), Ramp(right)
        strip.left.set_goal(left, frame=frame)
        strip.right.set_goal(right, frame=frame)
        wanted = tuple(entry.move for entry in state.ledger) if self._mix.offcuts_track_id == state.id else None
        if wanted != node.offcuts_of:
            node.offcuts_of = wanted
            offcuts = (
                None if wanted is None else OffcutsSource(strip, state, self.position_of, sample_rate_hz=self._rate)
            )
            strip.aim_extra(offcuts, frame=frame, starting=starting)
            changed = True
        return changed


def _listens(specs: Sequence[StageSpec], changed_keys: Set[str]) -> bool:
    return any(spec.listens_to() in changed_keys for spec in specs)
