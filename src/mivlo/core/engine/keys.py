"""The raw signals of tracks and groups, as moves of others listen to them: before their ledgers, behind their mutes."""

from collections.abc import Callable, Iterator, Mapping, Sequence

import numpy as np

from mivlo.core.engine.mix import Mix, raw_sound_of
from mivlo.core.engine.ramp import Ramp
from mivlo.core.engine.source import Source
from mivlo.core.model import Track, parents_of
from mivlo.core.processors.stage import no_key
from mivlo.core.units import Array, db_to_gain

__all__ = ["Keys", "OpenSource", "ReadSource"]

OpenSource = Callable[[str], Source]
ReadSource = Callable[[Source, int, int, int], Array]  # a source, its start in the session, frame, n_frames
_WHOLE = Ramp(1.0)
_GONE_FRAMES = 1 << 20  # after which nobody comes back to what is no longer there


class _Key:
    """The raw signal of a track, as others listen to it; told by the frame, so that it can be read anywhere."""

    def __init__(self, track: Track, open_source: OpenSource, *, groups: Sequence[str], born: int | None) -> None:
        self.track_id, self.raw_sound, self.start_frame = track.id, raw_sound_of(track), track.start_frame
        self.born = born  # None: there from the start
        self.audio_id, self._open_source = track.audio_id, open_source
        self.open = Ramp(1.0 if born is None else 0.0)  # set to what is heard when play starts
        self.fader = Ramp(db_to_gain(track.gain_db))
        self.inside = {group_id: Ramp(1.0) for group_id in groups}
        self._source: Source | None = None

    @property
    def source(self) -> Source:
        """Return the track's sound; opened when somebody listens to it."""
        if self._source is None:
            self._source = self._open_source(self.audio_id)
        return self._source

    def aim(self, *, is_heard: bool, gain: float, groups: Sequence[str], frame: int) -> set[str]:
        """Glide to how it is heard from a frame on; returns the ids of what sounds otherwise as a key."""
        goals = [(self.open, 1.0 if is_heard else 0.0), (self.fader, gain)]
        for group_id in groups:
            self.inside.setdefault(group_id, Ramp(0.0))
        goals += [(ramp, 1.0 if group_id in groups else 0.0) for group_id, ramp in self.inside.items()]
        changed = any(ramp.goal != goal for ramp, goal in goals)
        for ramp, goal in goals:
            ramp.set_goal(goal, frame=frame)
        return {self.track_id, *self.inside} if changed else set()

    def take_back(self, frame: int) -> None:
        """Undo what came later than a frame."""
        for ramp in (self.open, self.fader, *self.inside.values()):
            ramp.take_back(frame)

    def is_silent_from(self, frame: int) -> bool:
        """Tell whether it is not heard from a frame on, as things stand."""
        return self.open.goal == 0.0 and self.open.rests_at(frame)


class Keys:
    """All that can be listened to: each track, and each group as the sum of all tracks inside it.

    What is sent into a group is no member of it, and is not heard in its key.
    """

    def __init__(self, mix: Mix, open_source: OpenSource, read_source: ReadSource, *, frame: int) -> None:
        self._open_source, self._read_source = open_source, read_source
        self._keys: list[_Key] = []
        self._update(mix, frame=frame, born=None)

    def update(self, mix: Mix, *, frame: int) -> set[str]:
        """Glide to another mix; returns the ids of tracks and groups that sound otherwise as keys than before."""
        return self._update(mix, frame=frame, born=frame)

    def take_back(self, frame: int) -> None:
        """Undo all that came later than a frame."""
        # Those that came later are silent then, but sums are equal to the last bit in one order only.
        self._keys = [key for key in self._keys if key.born is None or key.born <= frame]
        for key in self._keys:
            key.take_back(frame)

    def read(self, key_id: str, after_fader: bool, frame: int, n_frames: int) -> Array:
        """Return the raw signal of a track, or the sum of a group's; silence for what is not there."""
        heard: list[tuple[_Key, Ramp]] = [(key, _WHOLE) for key in self._keys if key.track_id == key_id]
        heard += [(key, key.inside[key_id]) for key in self._keys if key_id in key.inside]
        parts = []
        for key, inside in heard:
            if key.is_silent_from(frame) or (inside.goal == 0.0 and inside.rests_at(frame)):
                continue
            x = self._read_source(key.source, key.start_frame, frame, n_frames) * key.open.take(frame, n_frames)
            if after_fader:
                x = x * key.fader.take(frame, n_frames)
            parts.append(x if inside is _WHOLE else x * inside.take(frame, n_frames))
        if len(parts) < 2:
            return parts[0] if parts else no_key(key_id, after_fader, frame, n_frames)
        total = np.zeros((max(len(x) for x in parts), n_frames))
        for x in parts:
            total += x
        return total

    def _update(self, mix: Mix, *, frame: int, born: int | None) -> set[str]:
        parents = parents_of(mix.tracks, mix.groups, mix_id=mix.master.id)
        muted = {one.id for one in (*mix.tracks, *mix.groups) if one.mute}
        kept = [key for key in self._keys if not key.is_silent_from(frame - _GONE_FRAMES)]
        known = {(key.track_id, key.raw_sound): key for key in self._keys}
        changed: set[str] = set()
        for track in mix.tracks:
            groups = tuple(_groups_around(track.id, parents, mix.master.id))
            is_heard = muted.isdisjoint((track.id, *groups))
            key = known.pop((track.id, raw_sound_of(track)), None)
            if key is None:
                key = _Key(track, self._open_source, groups=groups, born=born)
                if born is None and not is_heard:
                    key.open = Ramp(0.0)
            if key not in kept:
                kept.append(key)
            changed |= key.aim(is_heard=is_heard, gain=db_to_gain(track.gain_db), groups=groups, frame=frame)
        for gone in known.values():
            changed |= gone.aim(is_heard=False, gain=gone.fader.goal, groups=(), frame=frame)
        self._keys = kept
        return changed


def _groups_around(strip_id: str, parents: Mapping[str, str], mix_id: str) -> Iterator[str]:
    while (strip_id := parents[strip_id]) != mix_id:
        yield strip_id
