"""What may be said to a pin: a cut, a move that acts only in the loud moments, and what is kept."""

from pydantic import Field

from mivlo.core.analyses.base import Analysis, Known, OfStrip, Sound, Work
from mivlo.core.analyses.sounds import sound_into
from mivlo.core.finder.pins import PinAnswers, answers_to_pin
from mivlo.core.model import Frozen, RecordedSession

__all__ = ["AskedPin", "PinIn", "PinsAnswered"]


class AskedPin(OfStrip):
    """A place that was pinned: how wide, and by how much it stands out where that is known."""

    hz: float = Field(ge=20.0, le=20_000.0)
    width_octaves: float = Field(ge=0.02, le=3.0)
    excess_db: float | None = Field(default=None, ge=-200.0, le=200.0)


class PinIn(Frozen):
    """A place in a sound."""

    sound: Sound
    hz: float
    width_octaves: float
    excess_db: float | None
    sample_rate_hz: int


class PinsAnswered(Analysis[AskedPin, PinIn, PinAnswers]):
    """Answers to a pin of a strip."""

    name = "pin-answers"
    asked, params, result = AskedPin, PinIn, PinAnswers

    def question(self, session: RecordedSession, asked: AskedPin, known: Known) -> PinIn:
        sound, _ = sound_into(session, session.strip(asked.strip_id))
        return PinIn(
            sound=sound, hz=asked.hz, width_octaves=asked.width_octaves, excess_db=asked.excess_db,
            sample_rate_hz=session.sample_rate_hz,
        )  # fmt: skip

    def analyse(self, work: Work, params: PinIn) -> PinAnswers:
        return answers_to_pin(
            work.open(params.sound.audio_id), hz=params.hz, width_octaves=params.width_octaves,
            excess_db=params.excess_db, sample_rate_hz=params.sample_rate_hz,
        )  # fmt: skip
