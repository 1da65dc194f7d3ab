"""What reaches the ear of somebody who plays: the map that masking is computed from."""

import tempfile
from collections.abc import Iterator, Set
from pathlib import Path

import numpy as np
from pydantic import BaseModel

from mivlo.core.analyses.base import Analysis, Need, NoFigures, Work
from mivlo.core.analyses.sounds import alone
from mivlo.core.audiofile import write_store
from mivlo.core.engine.mix import Mix, mix_of_session
from mivlo.core.engine.render import render_mix, render_track
from mivlo.core.engine.source import open_source
from mivlo.core.ensemble.erb_map import ErbMap, erb_map, frame_s
from mivlo.core.ensemble.listening import MixedTrack
from mivlo.core.model import Frozen, Group, RecordedSession, keys_of
from mivlo.core.remembered import remembered

__all__ = ["EarMapOf", "EarMaps", "Playing", "as_mixed", "map_need", "who_plays"]

MAP = "power.npy"


class EarMapOf(Frozen):
    """A track as it sounds without its fader, or a group as one, from the session's start to its end."""

    mix: Mix
    is_group: bool
    n_channels: int
    end: int
    sample_rate_hz: int


class Playing(Frozen):
    """Somebody who plays: a track at its fader, or a group, whose faders are in its map."""

    id: str
    gain_db: float
    pan: float
    map: EarMapOf


class MapSize(BaseModel):
    """How large the map is that lies beside this, as `MAP`: float32 (channels, frames, bands), as `ErbMap`."""

    shape: tuple[int, int, int]


class EarMaps(Analysis[NoFigures, EarMapOf, MapSize]):
    """The map of one track or group."""

    name = "ear-map"
    writes_files = True
    params, result = EarMapOf, MapSize

    def analyse(self, work: Work, params: EarMapOf) -> MapSize:
        rate, n_frames = params.sample_rate_hz, max(params.end, 1)
        first = params.mix.tracks[0]
        if not params.is_group and not first.ledger:  # nothing acts: it sounds as it was recorded
            source, at = work.open(first.audio_id), first.start_frame
            return _kept(work, erb_map(source, start=-at, end=n_frames - at, sample_rate_hz=rate))
        if params.is_group:
            blocks = render_mix(params.mix, work.open, start=0, end=n_frames, sample_rate_hz=rate)
        else:
            blocks = render_track(params.mix, first.id, work.open, start=0, end=n_frames, sample_rate_hz=rate)
        with tempfile.TemporaryDirectory(dir=work.folder) as scratch:  # a long track is not held in memory
            stored = Path(scratch) / "sound.npy"
            write_store(stored, blocks, n_channels=params.n_channels, n_frames=n_frames)
            made = erb_map(open_source(stored), start=0, end=n_frames, sample_rate_hz=rate)
        return _kept(work, made)


def _kept(work: Work, made: ErbMap) -> MapSize:
    np.save(work.folder / MAP, made.power)
    return MapSize(shape=made.power.shape)


_MAPS = EarMaps()


def map_need(playing: Playing) -> Need:
    """Return the need of somebody's map. Raises nothing. Source: ours."""
    return Need(_MAPS, playing.map)


def as_mixed(work: Work, playing: tuple[Playing, ...]) -> list[MixedTrack]:
    """Return those who play with their maps, which are read where they lie. Raises OSError. Source: ours."""
    found = []
    for one in playing:
        power = np.load(work.folder_of(map_need(one)) / MAP, mmap_mode="r")
        heard = ErbMap(power, 0.0, frame_s(one.map.sample_rate_hz))
        found.append(MixedTrack(heard, gain_db=one.gain_db, pan=one.pan))
    return found


@remembered(8)
def who_plays(session: RecordedSession) -> tuple[Playing, ...]:
    """Return everybody who plays: tracks that are in no group, and the outermost groups. Raises nothing."""
    return (*_tracks(session), *_groups(session))


def _tracks(session: RecordedSession) -> Iterator[Playing]:
    for track in session.tracks:
        if not track.mute and track.group_id is None:
            mix, sound, _ = alone(session, track)
            own = EarMapOf(
                mix=mix, is_group=False, n_channels=sound.n_channels, end=session.end_frame(),
                sample_rate_hz=session.sample_rate_hz,
            )  # fmt: skip
            yield Playing(id=track.id, gain_db=track.gain_db, pan=track.pan, map=own)


def _groups(session: RecordedSession) -> Iterator[Playing]:
    mix = mix_of_session(session)
    plain = mix.master.model_copy(update={"ledger": (), "gain_db": 0.0, "mute": False})
    unsoloed = tuple(track.model_copy(update={"solo": False}) for track in mix.tracks)
    for group in session.lasting_groups:
        sources = session.sources_of(group.id)
        sounds = any(track.id in sources and not track.mute for track in session.tracks)
        if group.mute or group.group_id is not None or not sounds:
            continue
        keyed = _is_keyed(session, group, sources)
        members = tuple(track for track in unsoloed if track.id in sources or keyed)
        within = {group.id, *sources}
        own = tuple(one.model_copy(update={"solo": False}) for one in mix.groups if one.id in within or keyed)
        together = Mix(tracks=members, groups=own, master=plain, alone_track_id=group.id)
        heard = EarMapOf(
            mix=together, is_group=True, n_channels=2, end=session.end_frame(), sample_rate_hz=session.sample_rate_hz
        )
        yield Playing(id=group.id, gain_db=0.0, pan=0.0, map=heard)


def _is_keyed(session: RecordedSession, group: Group, sources: Set[str]) -> bool:
    """Tell whether a move in a group, or in what goes there, listens to somebody: then all others stay in its mix."""
    strips = (strip for strip in session.strips() if strip.id == group.id or strip.id in sources)
    return any(keys_of(strip.ledger) for strip in strips)
