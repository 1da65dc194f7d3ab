"""Shallow cuts at what a stretch's places and stray lines add; and the curve of its places."""

import numpy as np
from pydantic import BaseModel, Field

from mivlo.core.analyses.base import Analysis, Known, Sound, Work
from mivlo.core.analyses.sounds import role_of, stretch_of
from mivlo.core.analyses.suspects import AskedStretch
from mivlo.core.finder.place_curve import SURE
from mivlo.core.finder.survey import DEEPEST_DB, DEFAULT_AMOUNT, MOST_CUTS, Survey, survey
from mivlo.core.model import Frozen, RecordedSession
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.plane import Plane
from mivlo.core.roles import Role

__all__ = ["AskedSurvey", "PlaceCurveView", "SurveyCut", "SurveyIn", "SurveyView", "Surveys"]


class AskedSurvey(AskedStretch):
    """A stretch, the region in which cuts are looked for, and how much of them."""

    low_hz: float = Field(default=150.0, ge=20.0, le=20_000.0)
    high_hz: float = Field(default=10_000.0, ge=20.0, le=20_000.0)
    amount: float = Field(default=DEFAULT_AMOUNT, ge=0.0, le=100.0)
    most: int = Field(default=MOST_CUTS, ge=1, le=100)
    deepest_db: float = Field(default=DEEPEST_DB, ge=0.0, le=24.0)


class SurveyIn(Frozen):
    """Frames of a sound, the region, amount and limits, what it is, and the regions that are kept (low_hz, high_hz)."""

    sound: Sound
    start: int
    end: int
    sample_rate_hz: int
    low_hz: float
    high_hz: float
    amount: float
    most: int
    deepest_db: float
    role: Role | None
    keepers: tuple[tuple[float, float], ...]


class SurveyCut(BaseModel):
    """One drafted cut, with what was heard there and how sure that is, 0 to 1."""

    move: Bell
    excess_db: float
    sure: float
    share_of_time: float
    reason: str
    nearest_note: str


class PlaceCurveView(BaseModel):
    """By how many dB each place lifts what passes it, how much more of it when it is loud, and how sure that is."""

    hz: list[float]
    db: list[float]
    loud_db: list[float]
    sure: list[float]
    sure_from: float


class SurveyView(BaseModel):
    """Drafted cuts, strongest first; one plane that does the same only when needed; and the curve of the places."""

    cuts: list[SurveyCut]
    plane: Plane
    curve: PlaceCurveView


class Surveys(Analysis[AskedSurvey, SurveyIn, SurveyView]):
    """Cuts drafted from a stretch, what a plane learns from it, and what its places do to whatever passes them."""

    name = "survey"
    version = 2
    asked, params, result = AskedSurvey, SurveyIn, SurveyView

    def question(self, session: RecordedSession, asked: AskedSurvey, known: Known) -> SurveyIn:
        strip = session.strip(asked.strip_id)
        sound, start, end, _ = stretch_of(session, strip, *asked.within(session))
        return SurveyIn(
            sound=sound, start=start, end=end, sample_rate_hz=session.sample_rate_hz, low_hz=asked.low_hz,
            high_hz=asked.high_hz, amount=asked.amount, most=asked.most, deepest_db=asked.deepest_db,
            role=role_of(strip), keepers=tuple((keeper.low_hz, keeper.high_hz) for keeper in strip.keepers),
        )  # fmt: skip

    def analyse(self, work: Work, params: SurveyIn) -> SurveyView:
        found = survey(
            work.open(params.sound.audio_id), start=params.start, end=params.end, sample_rate_hz=params.sample_rate_hz,
            low_hz=params.low_hz, high_hz=params.high_hz, amount=params.amount, most=params.most,
            deepest_db=params.deepest_db, keepers=params.keepers, role=params.role,
        )  # fmt: skip
        return _view(found)


def _view(found: Survey) -> SurveyView:
    curve = found.curve
    return SurveyView(
        cuts=[SurveyCut.model_validate(cut, from_attributes=True) for cut in found.cuts],
        plane=found.plane,
        curve=PlaceCurveView(
            hz=np.round(curve.hz, 2).tolist(), db=np.round(curve.db, 2).tolist(),
            loud_db=np.round(curve.loud_db, 2).tolist(), sure=np.round(curve.sure, 3).tolist(), sure_from=SURE,
        ),
    )  # fmt: skip
