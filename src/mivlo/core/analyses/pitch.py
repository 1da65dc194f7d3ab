"""The pitch line of a track with one voice."""

from collections.abc import Iterable

import numpy as np
from pydantic import BaseModel

from mivlo.core.analyses.base import Analysis, Known, OfStrip, Sound, Work
from mivlo.core.analyses.sounds import sound_into
from mivlo.core.finder.pitch_line import pitch_line
from mivlo.core.model import Frozen, RecordedSession

__all__ = ["PitchIn", "PitchLines", "PitchView"]


class PitchIn(Frozen):
    """A whole sound."""

    sound: Sound
    sample_rate_hz: int


class PitchView(BaseModel):
    """The pitch line, in seconds (of the sound where it is kept, of the session where it is shown); gaps are None."""

    one_voice: bool
    times_s: list[float]
    hz: list[float | None]


class PitchLines(Analysis[OfStrip, PitchIn, PitchView]):
    """The pitch line of what goes into a strip."""

    name = "pitch"
    version = 3
    asked, params, result = OfStrip, PitchIn, PitchView

    def question(self, session: RecordedSession, asked: OfStrip, known: Known) -> PitchIn:
        sound, _ = sound_into(session, session.strip(asked.strip_id))
        return PitchIn(sound=sound, sample_rate_hz=session.sample_rate_hz)

    def analyse(self, work: Work, params: PitchIn) -> PitchView:
        source = work.open(params.sound.audio_id)
        line = pitch_line(source, start=0, end=source.n_frames, sample_rate_hz=params.sample_rate_hz)
        hz = [None if np.isnan(one) else round(float(one), 2) for one in line.hz]
        return PitchView(one_voice=bool(line.one_voice), times_s=np.round(line.times_s, 3).tolist(), hz=hz)

    def show(self, session: RecordedSession, asked: OfStrip, params: PitchIn, result: PitchView) -> PitchView:
        _, start_frame = sound_into(session, session.strip(asked.strip_id))
        offset_s = start_frame / session.sample_rate_hz
        return result.model_copy(update={"times_s": [round(time_s + offset_s, 3) for time_s in result.times_s]})

    def foreseen(self, session: RecordedSession) -> Iterable[OfStrip]:
        return (OfStrip(strip_id=track.id) for track in session.tracks)
