"""Tracks, groups and the mix as what can be looked at and treated: their sound, and their sound behind their ledger."""

import hashlib
from collections.abc import Iterable
from pathlib import Path

from mivlo.core.audiofile import write_store
from mivlo.core.engine.mix import Mix, mix_of_session
from mivlo.core.engine.render import render_track
from mivlo.core.engine.source import Source, open_source
from mivlo.core.errors import ParameterError
from mivlo.core.model import Group, Track, keys_of, members_under
from mivlo.core.roles import Role
from mivlo.core.units import Array
from mivlo.server.services.imports import STORED
from mivlo.server.services.pool import in_pool
from mivlo.server.services.state import SessionState
from mivlo.server.services.views import Bounce, bounce, keep_only, rendered_folder
from mivlo.server.settings import settings

__all__ = ["alone_mix", "frames_between", "sound_of", "stretch_of", "treated"]


def sound_of(state: SessionState, strip: Track | Group) -> tuple[str, float, Role | None, int]:
    """Return audio id, start in seconds, role, and length in frames of what goes into a strip."""
    if isinstance(strip, Track):
        role = None if strip.role == "other" else strip.role
        return strip.audio_id, strip.start_frame / state.sample_rate_hz, role, state.audio_of(strip).n_frames
    bounced = bounce(state, strip.id)
    return bounced.audio_id, 0.0, "full backing", bounced.n_frames


def stretch_of(
    state: SessionState, strip: Track | Group, start_s: float, end_s: float
) -> tuple[str, int, int, float, Role | None]:
    """Return a strip's audio id, the frames of a stretch of the session in it, its start in seconds, and its role.

    Raises
    ------
    ParameterError: a stretch in which it has no sound
    """
    audio_id, offset_s, role, n_frames = sound_of(state, strip)
    rate = state.sample_rate_hz
    start, end = frames_between(start_s - offset_s, end_s - offset_s, n_frames, rate)
    if end <= start:
        raise ParameterError(f"{strip.name} has no sound from {start_s:.2f} to {end_s:.2f} s")
    return audio_id, start, end, offset_s, role


def frames_between(start_s: float, end_s: float, n_frames: int, rate: int) -> tuple[int, int]:
    """Return the first frame and the one after the last of a stretch in seconds, within a sound, however far it
    reaches."""
    longest_s = n_frames / rate
    return round(min(max(start_s, 0.0), longest_s) * rate), round(min(max(end_s, 0.0), longest_s) * rate)


def alone_mix(state: SessionState, strip: Track | Group) -> Mix:
    """Return a strip as a track at 0 dB at its place, with those beside it that its moves listen to."""
    audio_id, offset_s, _, _ = sound_of(state, strip)
    plain = Track(
        id=strip.id, audio_id=audio_id, start_frame=round(offset_s * state.sample_rate_hz), ledger=strip.ledger,
        ledger_on=strip.ledger_on, phase=strip.phase, keepers=strip.keepers,
    )  # fmt: skip
    mix = mix_of_session(state)
    keys = keys_of(strip.ledger)
    heard = keys.union(*(members_under(key, mix.tracks, mix.groups) for key in keys)) - {strip.id}
    tracks = (one.model_copy(update={"ledger": (), "sends": ()}) for one in mix.tracks if one.id in heard)
    groups = (one.model_copy(update={"ledger": (), "sends": ()}) for one in mix.groups if one.id in heard)
    return Mix(tracks=(plain, *tracks), groups=tuple(groups))


def treated(state: SessionState, strip_id: str) -> Bounce:
    """Return the sound of a strip behind its ledger, rendered when it is first asked for as it is now; raises
    NotFoundError."""
    strip = state.strip(strip_id)
    _, _, _, n_frames = sound_of(state, strip)
    mix = alone_mix(state, strip)
    key = hashlib.md5(f"treated {mix.model_dump_json()} {n_frames}".encode(), usedforsecurity=False).hexdigest()
    folder = settings().audio_folder(key)
    if not (folder / STORED).is_file():
        keep_only(f"treated-of-{strip_id}")
        in_pool(_treat, str(settings().data / "audio"), mix, n_frames, state.sample_rate_hz, folder)
    return Bounce(audio_id=key, n_frames=n_frames)


def _treat(audio_folder: str, mix: Mix, n_frames: int, sample_rate_hz: int, folder: Path) -> None:
    def open_stored(audio_id: str) -> Source:
        return open_source(Path(audio_folder) / audio_id / STORED)

    strip = mix.tracks[0]
    blocks: Iterable[Array] = render_track(
        mix,
        strip.id,
        open_stored,
        start=strip.start_frame,
        end=strip.start_frame + n_frames,
        sample_rate_hz=sample_rate_hz,
    )
    with rendered_folder(folder, marker=f"treated-of-{strip.id}") as part:
        write_store(part / STORED, blocks, n_channels=open_stored(strip.audio_id).n_channels, n_frames=n_frames)
