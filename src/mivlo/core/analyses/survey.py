"""Shallow cuts at what belongs to no note played."""

from pydantic import BaseModel, Field

from mivlo.core.analyses.base import Analysis, Known, Sound, Work
from mivlo.core.analyses.sounds import stretch_of
from mivlo.core.analyses.suspects import AskedStretch
from mivlo.core.finder.survey import DEFAULT_AMOUNT, survey
from mivlo.core.model import Frozen, RecordedSession
from mivlo.core.moves import Move

__all__ = ["AskedSurvey", "SurveyCut", "SurveyIn", "Surveys"]


class AskedSurvey(AskedStretch):
    """A stretch, the region in which cuts are looked for, and how much of them."""

    low_hz: float = Field(default=150.0, ge=20.0, le=20_000.0)
    high_hz: float = Field(default=10_000.0, ge=20.0, le=20_000.0)
    amount: float = Field(default=DEFAULT_AMOUNT, ge=0.0, le=100.0)


class SurveyIn(Frozen):
    """Frames of a sound, the region, the amount, and the regions that are kept (low_hz, high_hz)."""

    sound: Sound
    start: int
    end: int
    sample_rate_hz: int
    low_hz: float
    high_hz: float
    amount: float
    keepers: tuple[tuple[float, float], ...]


class SurveyCut(BaseModel):
    """One drafted cut, with what was heard there."""

    move: Move
    excess_db: float
    share_of_time: float
    nearest_note: str


class Surveys(Analysis[AskedSurvey, SurveyIn, list[SurveyCut]]):
    """Cuts drafted from a stretch."""

    name = "survey"
    asked, params, result = AskedSurvey, SurveyIn, list[SurveyCut]

    def question(self, session: RecordedSession, asked: AskedSurvey, known: Known) -> SurveyIn:
        strip = session.strip(asked.strip_id)
        sound, start, end, _ = stretch_of(session, strip, *asked.within(session))
        return SurveyIn(
            sound=sound, start=start, end=end, sample_rate_hz=session.sample_rate_hz, low_hz=asked.low_hz,
            high_hz=asked.high_hz, amount=asked.amount,
            keepers=tuple((keeper.low_hz, keeper.high_hz) for keeper in strip.keepers),
        )  # fmt: skip

    def analyse(self, work: Work, params: SurveyIn) -> list[SurveyCut]:
        cuts = survey(
            work.open(params.sound.audio_id), start=params.start, end=params.end, sample_rate_hz=params.sample_rate_hz,
            low_hz=params.low_hz, high_hz=params.high_hz, amount=params.amount, keepers=params.keepers,
        )  # fmt: skip
        return [
            SurveyCut(
                move=cut.move, excess_db=cut.excess_db, share_of_time=cut.share_of_time, nearest_note=cut.nearest_note
            )
            for cut in cuts
        ]
