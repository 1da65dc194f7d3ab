"""The raw signals of tracks, as moves of others listen to them: before their ledgers, behind their mutes."""

from collections.abc import Callable

import numpy as np

from mivlo.core.engine.mix import Mix, raw_sound_of
from mivlo.core.engine.ramp import Ramp
from mivlo.core.engine.source import Source
from mivlo.core.model import Track
from mivlo.core.processors.stage import no_key
from mivlo.core.units import Array, db_to_gain

__all__ = ["Keys", "OpenSource", "ReadSource"]

OpenSource = Callable[[str], Source]
ReadSource = Callable[[Source, int, int, int], Array]  # a source, its start in the session, frame, n_frames


class _Key:
    """The raw signal of a track, as others listen to it."""

    def __init__(self, state: Track, open_source: OpenSource, muted: bool) -> None:
        self.state, self._open_source = state, open_source
        self.open = Ramp(0.0 if muted else 1.0)
        self.fader = Ramp(db_to_gain(state.gain_db))
        self._source: Source | None = None

    @property
    def heard(self) -> bool:
        """Tell whether it is not muted."""
        return self.open.goal > 0.0

    @property
    def source(self) -> Source:
        """Return the track's sound; opened when somebody listens to it."""
        if self._source is None:
            self._source = self._open_source(self.state.audio_id)
        return self._source


class Keys:
    """All that can be listened to: each track, and each group as the sum of its members."""

    def __init__(self, open_source: OpenSource, read_source: ReadSource) -> None:
        self._open_source, self._read_source = open_source, read_source
        self._of_track: dict[str, _Key] = {}

    def update(self, mix: Mix, *, frame: int) -> set[str]:
        """Glide to another mix; returns the ids of tracks and groups that sound otherwise as keys than before."""
        muted_groups = {group.id for group in mix.groups if group.mute}
        keys: dict[str, _Key] = {}
        changed: set[str] = set()
        for track in mix.tracks:
            muted = track.mute or track.group_id in muted_groups
            key = self._of_track.get(track.id)
            if key is None or raw_sound_of(key.state) != raw_sound_of(track):
                key = _Key(track, self._open_source, muted)
                changed |= {track.id, track.group_id or ""}
            elif (key.heard, key.fader.goal, key.state.group_id) != (
                not muted, db_to_gain(track.gain_db), track.group_id,
            ):  # fmt: skip
                changed |= {track.id, track.group_id or "", key.state.group_id or ""}
            key.open.set_goal(0.0 if muted else 1.0, frame=frame)
            key.fader.set_goal(db_to_gain(track.gain_db), frame=frame)
            key.state = track
            keys[track.id] = key
        for gone in set(self._of_track) - set(keys):
            changed |= {gone, self._of_track[gone].state.group_id or ""}
        self._of_track = keys
        return changed - {""}

    def take_back(self, frame: int) -> set[str]:
        """Undo mutes and faders that came later than a frame; returns the ids of what sounds otherwise from there."""
        changed: set[str] = set()
        for key_id, key in self._of_track.items():
            if any([key.open.take_back(frame), key.fader.take_back(frame)]):
                changed |= {key_id, key.state.group_id or ""}
        return changed - {""}

    def read(self, key_id: str, after_fader: bool, frame: int, n_frames: int) -> Array:
        """Return the raw signal of a track, or the sum of a group's members; silence for what is not there."""
        if key_id in self._of_track:
            return self._read_one(self._of_track[key_id], after_fader, frame, n_frames)
        members = [key for key in list(self._of_track.values()) if key.state.group_id == key_id]
        if not members:
            return no_key(key_id, after_fader, frame, n_frames)
        raw = [self._read_one(member, after_fader, frame, n_frames) for member in members]
        total = np.zeros((max(len(x) for x in raw), n_frames))
        for x in raw:
            total += x
        return total

    def _read_one(self, key: _Key, after_fader: bool, frame: int, n_frames: int) -> Array:
        x = self._read_source(key.source, key.state.start_frame, frame, n_frames) * key.open.take(frame, n_frames)
        return x * key.fader.take(frame, n_frames) if after_fader else x
