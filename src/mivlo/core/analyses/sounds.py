"""Tracks, groups and the mix as what can be listened to: what goes into them, and what comes out behind their moves."""

from typing import NamedTuple

from mivlo.core.analyses.base import Rendering, Sound
from mivlo.core.analyses.rendered import sound_of
from mivlo.core.engine.listening import ledgers_switched
from mivlo.core.engine.mix import Mix, group_by_itself, mix_of_session
from mivlo.core.errors import ParameterError
from mivlo.core.model import Group, RecordedSession, Track, keys_of, members_under
from mivlo.core.roles import Role

__all__ = [
    "Alone",
    "Stretch",
    "alone",
    "frames_between",
    "rendering_under_pressure",
    "role_of",
    "sound_behind",
    "sound_into",
    "stretch_of",
]  # fmt: skip


class Alone(NamedTuple):
    """A strip as the first track of a mix, at 0 dB and at its place, with those that its moves listen to."""

    mix: Mix
    sound: Sound
    start_frame: int


class Stretch(NamedTuple):
    """Frames of a sound; `offset_s` is where the sound starts in the session."""

    sound: Sound
    start: int
    end: int
    offset_s: float


def role_of(strip: Track | Group) -> Role | None:
    """Return what a strip is; None for what nobody can know. Raises nothing. Source: ours."""
    if isinstance(strip, Track):
        return None if strip.role == "other" else strip.role
    return "full backing"


def sound_into(session: RecordedSession, strip: Track | Group) -> tuple[Sound, int]:
    """Return what goes into a strip, before its moves, and the frame of the session at which it starts.

    Raises
    ------
    NotFoundError: no such strip

    Source: ours
    """
    if isinstance(strip, Track):
        audio = session.audio_of(strip)
        return Sound(audio_id=audio.id, n_frames=audio.n_frames, n_channels=audio.n_channels), strip.start_frame
    session.strip(strip.id)
    mix = ledgers_switched(mix_of_session(session), strip.id, on=False)
    if strip.id != session.master.id:
        mix = group_by_itself(mix, strip.id)
    sources = session.sources_of(strip.id)
    ends = (one.start_frame + session.audio_of(one).n_frames for one in session.tracks if one.id in sources)
    n_frames = max(max(ends, default=0), 1)
    rate = session.sample_rate_hz
    return sound_of(Rendering(mix=mix, what="mix", n_frames=n_frames, n_channels=2, sample_rate_hz=rate)), 0


def alone(session: RecordedSession, strip: Track | Group) -> Alone:
    """Return a strip with its moves, apart from fader and mix. Raises NotFoundError. Source: ours."""
    sound, start_frame = sound_into(session, strip)
    plain = Track(
        id=strip.id, audio_id=sound.audio_id, start_frame=start_frame, ledger=strip.lasting_ledger,
        ledger_on=strip.ledger_on, amount=strip.amount,
        phase=strip.phase, keepers=strip.keepers,
    )  # fmt: skip
    mix = mix_of_session(session)
    keys = keys_of(strip.lasting_ledger)
    heard = keys.union(*(members_under(key, mix.tracks, mix.groups) for key in keys)) - {strip.id}
    tracks = (one.model_copy(update={"ledger": (), "sends": ()}) for one in mix.tracks if one.id in heard)
    groups = (one.model_copy(update={"ledger": (), "sends": ()}) for one in mix.groups if one.id in heard)
    # Of the mix itself, what stands in its place is no track of that name.
    behind = Group(id=f"behind {strip.id}") if strip.id == session.master.id else Group(id=session.master.id)
    return Alone(Mix(tracks=(plain, *tracks), groups=tuple(groups), master=behind), sound, start_frame)


def sound_behind(session: RecordedSession, strip: Track | Group) -> tuple[Sound, int]:
    """Return a strip behind its own moves, and where that starts; without moves, what goes in. Raises NotFoundError."""
    mix, sound, start_frame = alone(session, strip)
    if not strip.lasting_ledger:
        return sound, start_frame
    rate = session.sample_rate_hz
    rendering = Rendering(
        mix=mix, what="track", n_frames=sound.n_frames, n_channels=sound.n_channels, sample_rate_hz=rate, of=sound
    )
    return sound_of(rendering), start_frame


def rendering_under_pressure(session: RecordedSession, strip: Track | Group) -> Rendering | None:
    """Return a strip behind its moves and all that stands for what is done later, from frame 0 of the session on.

    None where nothing stands in. What a track is sent to is heard with it; its fader is not. Of a group and the mix,
    whatever stands in for its tracks is heard.

    Raises
    ------
    NotFoundError: no such strip

    Source: ours
    """
    if isinstance(strip, Track) and strip.later is not None:
        return _as_it_came_back(session, strip)
    if isinstance(strip, Group):
        return _group_under_pressure(session, strip)
    rooms = {group.id: group for group in session.groups if group.stand_in}
    sends = tuple(send for send in strip.sends if send.to_id in rooms)
    later = tuple(entry for entry in strip.ledger if entry.move.stand_in)
    if not sends and not later:
        return None
    mix, sound, start_frame = alone(session, strip)
    own = mix.tracks[0].model_copy(update={"ledger": (*mix.tracks[0].ledger, *later), "sends": sends})
    used = tuple(rooms[send.to_id].heard_part() for send in sends)
    known = {group.id for group in mix.groups}
    pressed = mix.model_copy(
        update={
            "tracks": (own, *mix.tracks[1:]),
            "groups": (*mix.groups, *(group for group in used if group.id not in known)),
            "heard_ids": (own.id,),
        }
    )
    rate = session.sample_rate_hz
    n_frames = start_frame + sound.n_frames
    return Rendering(mix=pressed, what="mix", n_frames=n_frames, n_channels=2, sample_rate_hz=rate, of=sound)


def _as_it_came_back(session: RecordedSession, track: Track) -> Rendering:
    mix, sound, start_frame = alone(session, track)
    back = track.as_it_came_back
    own = mix.tracks[0].model_copy(
        update={"audio_id": back.audio_id, "start_frame": back.start_frame, "ledger": back.ledger}
    )
    pressed = mix.model_copy(update={"tracks": (own, *mix.tracks[1:]), "heard_ids": (own.id,)})
    n_frames, rate = start_frame + sound.n_frames, session.sample_rate_hz
    return Rendering(mix=pressed, what="mix", n_frames=n_frames, n_channels=2, sample_rate_hz=rate, of=sound)


def _group_under_pressure(session: RecordedSession, group: Group) -> Rendering | None:
    now, later = (mix_of_session(session, stand_ins=how) for how in ("left-out", "acting"))
    if group.id != session.master.id:
        now, later = (group_by_itself(mix, group.id) for mix in (now, later))
    within = {group.id, *session.sources_of(group.id)}

    def parts(mix: Mix) -> list[object]:
        return [one for one in (*mix.tracks, *mix.groups, mix.master) if one.id in within]

    if parts(now) == parts(later):
        return None
    untreated, _ = sound_into(session, group)
    rate = session.sample_rate_hz
    return Rendering(
        mix=later, what="mix", n_frames=untreated.n_frames, n_channels=2, sample_rate_hz=rate, of=untreated
    )


def stretch_of(session: RecordedSession, strip: Track | Group, start_s: float, end_s: float) -> Stretch:
    """Return the frames of what goes into a strip that lie in a stretch of the session.

    Raises
    ------
    NotFoundError: no such strip
    ParameterError: a stretch in which it has no sound

    Source: ours
    """
    sound, start_frame = sound_into(session, strip)
    rate = session.sample_rate_hz
    offset_s = start_frame / rate
    start, end = frames_between(start_s - offset_s, end_s - offset_s, sound.n_frames, rate)
    if end <= start:
        raise ParameterError(f"{strip.name} has no sound from {start_s:.2f} to {end_s:.2f} s")
    return Stretch(sound, start, end, offset_s)


def frames_between(start_s: float, end_s: float, n_frames: int, rate: int) -> tuple[int, int]:
    """Return the first frame and the one after the last of a stretch in seconds, within a sound, however far it
    reaches. Raises nothing. Source: ours."""
    longest_s = n_frames / rate
    return round(min(max(start_s, 0.0), longest_s) * rate), round(min(max(end_s, 0.0), longest_s) * rate)
