"""A track beside what came back of it from somebody's later chain: where that belongs, and how much louder it is."""

from pydantic import BaseModel

from mivlo.core.alignment import offset_between
from mivlo.core.analyses.base import Analysis, Known, OfStrip, Sound, Work
from mivlo.core.analyses.sounds import sound_into
from mivlo.core.finder.coming_back import loudness_change_db
from mivlo.core.model import Frozen, RecordedSession

__all__ = ["AskedBack", "CameBackAs", "CameBackIn", "CamesBack"]


class AskedBack(OfStrip):
    """The track, and the one that came back."""

    back_id: str


class CameBackIn(Frozen):
    """Both sounds."""

    track: Sound
    start_frame: int
    back: Sound
    sample_rate_hz: int


class CameBackAs(BaseModel):
    """Where it starts, so that both are heard at once: `later_frames` after the track itself; by how much louder."""

    start_frame: int
    later_frames: int
    louder_db: float


class CamesBack(Analysis[AskedBack, CameBackIn, CameBackAs]):
    """What came back, aligned with its track by correlation, its level told apart."""

    name = "came-back"
    asked, params, result = AskedBack, CameBackIn, CameBackAs

    def question(self, session: RecordedSession, asked: AskedBack, known: Known) -> CameBackIn:
        track, back = session.track(asked.strip_id), session.track(asked.back_id)
        (own, at), (other, _) = (sound_into(session, one) for one in (track, back))
        return CameBackIn(track=own, start_frame=at, back=other, sample_rate_hz=session.sample_rate_hz)

    def analyse(self, work: Work, params: CameBackIn) -> CameBackAs:
        """Return where it belongs; raises ParameterError where the two are not one track."""
        own, back = work.open(params.track.audio_id), work.open(params.back.audio_id)
        by = offset_between(own, back, sample_rate_hz=params.sample_rate_hz)
        louder_db = loudness_change_db(own, back, sample_rate_hz=params.sample_rate_hz)
        return CameBackAs(start_frame=params.start_frame - by, later_frames=by, louder_db=louder_db)
