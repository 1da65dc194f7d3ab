"""Two ways to treat the session, or a reference beside it, on one axis: what each reads, and how it looks."""

from collections.abc import Iterable
from typing import Literal, Self

from pydantic import BaseModel, Field, model_validator

from mivlo.core.analyses.base import Analysis, Known, Need, NoFigures, OfSession, Rendering, Sound, Work
from mivlo.core.analyses.loudness import LoudnessOf
from mivlo.core.analyses.mix_comparison import MixSpectra
from mivlo.core.analyses.picture import Drawn, PictureOf, Place, Shows
from mivlo.core.analyses.rendered import sound_of
from mivlo.core.engine.listening import Compared, Listening, MatchQuestion, match_question
from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import render_mix
from mivlo.core.errors import ParameterError
from mivlo.core.level_match import LevelMatch, Loudness, matched
from mivlo.core.model import Frozen, RecordedSession, Treatment
from mivlo.core.proof.measured import SoundFigures, figures_of
from mivlo.core.spectra.average import AXIS_HZ

__all__ = ["AskedSidePicture", "AskedSides", "SideFigures", "SidePictures", "Sides", "SidesIn", "SidesView"]


class AskedSides(OfSession):
    """What is compared with what it is in the treatment that this is about: the same without moves, in another
    treatment, or a reference; of one strip by itself, or (None) of the whole mix."""

    strip_id: str | None = Field(default=None, max_length=64)
    compared: Literal["all-moves", "treatments", "reference"] = "all-moves"
    other: Treatment | None = None
    reference_id: str | None = Field(default=None, max_length=64)

    @model_validator(mode="after")
    def _names_the_other(self) -> Self:
        if self.compared == "treatments" and self.other is None:
            raise ValueError("say with which treatment (other)")
        if self.compared == "reference" and self.reference_id is None:
            raise ValueError("say with which reference (reference_id)")
        return self


def _asked_of(session: RecordedSession, asked: AskedSides) -> MatchQuestion:
    """Return both as they are heard side by side, and where; `without` is the other.

    Raises
    ------
    NotFoundError: a strip, treatment or reference that is not there
    ParameterError: a session without sound
    """
    if asked.strip_id is not None:
        session.strip(asked.strip_id)
    if asked.other is not None:
        session.as_treated(asked.other)
    if asked.reference_id is not None:
        session.reference(asked.reference_id)
    compared = Compared(what=asked.compared, other=asked.other, reference_id=asked.reference_id)
    is_alone = asked.strip_id not in (None, session.master.id)
    listening = Listening(
        treatment=session.treatment, strip_id=asked.strip_id, alone=is_alone, compared=compared
    )  # fmt: skip
    question = match_question(session, listening, end_frame=session.end_frame())
    if question is None:
        raise ParameterError("there is no sound to be compared: import a track, or take the loop to where one plays")
    return question


class SideFigures(Analysis[NoFigures, LoudnessOf, SoundFigures]):
    """What one side reads."""

    name = "side-figures"
    params, result = LoudnessOf, SoundFigures

    def analyse(self, work: Work, params: LoudnessOf) -> SoundFigures:
        rate = params.sample_rate_hz
        blocks = render_mix(params.mix, work.open, start=params.start, end=params.end, sample_rate_hz=rate)
        return figures_of(blocks, sample_rate_hz=rate)


class SidesIn(Frozen):
    """Both sides."""

    before: LoudnessOf
    after: LoudnessOf


class SidesView(BaseModel):
    """What both sides read over the loop or the song, and their average levels at the frequencies of the axis, as they
    are; `match` says by how much each is turned down where they are heard equally loud, and `beside_db` is the first
    one's as it stands behind the other one then."""

    before: SoundFigures
    after: SoundFigures
    match: LevelMatch
    hz: list[float]
    before_db: list[float]
    after_db: list[float]
    beside_db: list[float]


_FIGURES, _SPECTRA = SideFigures(), MixSpectra()


class Sides(Analysis[AskedSides, SidesIn, SidesView]):
    """Loudness, true peak, loudness range, crest factors and spectrum of two sides, over the loop or the song."""

    name = "sides"
    asked, params, result = AskedSides, SidesIn, SidesView

    def question(self, session: RecordedSession, asked: AskedSides, known: Known) -> SidesIn:
        question = _asked_of(session, asked)

        def side(mix: Mix) -> LoudnessOf:
            rate = session.sample_rate_hz
            return LoudnessOf(mix=mix, start=question.start, end=question.end, sample_rate_hz=rate)

        return SidesIn(before=side(question.without), after=side(question.within))

    def needs(self, params: SidesIn) -> Iterable[Need]:
        sides = (params.before, params.after)
        return (*(Need(_FIGURES, one) for one in sides), *(Need(_SPECTRA, one) for one in sides))

    def analyse(self, work: Work, params: SidesIn) -> SidesView:
        before, after, before_db, after_db = (work.result(need) for need in self.needs(params))
        match = matched(*(Loudness(loudness_lufs=one.loudness_lufs, true_peak_db=one.true_peak_db)
                          for one in (before, after)))  # fmt: skip
        by_db = match.match_before_db - match.match_after_db
        return SidesView(
            before=before, after=after, match=match, hz=AXIS_HZ.tolist(), before_db=before_db, after_db=after_db,
            beside_db=[round(db + by_db, 2) for db in before_db],
        )  # fmt: skip


class AskedSidePicture(AskedSides):
    """A place in the pyramid of one of both sides, or of what lies between them; columns count from the session's
    start."""

    shows: Shows = "before"
    place: Place


class SidePictures(Drawn[AskedSidePicture]):
    """One picture of the spectrogram of a side."""

    name = "side-picture"
    asked = AskedSidePicture

    def question(self, session: RecordedSession, asked: AskedSidePicture, known: Known) -> PictureOf:
        question = _asked_of(session, asked)
        n_frames, rate = session.end_frame(), session.sample_rate_hz

        def side(mix: Mix) -> Sound:
            return sound_of(Rendering(mix=mix, what="mix", n_frames=n_frames, n_channels=2, sample_rate_hz=rate))

        return self.of(side(question.without), side(question.within), asked.shows, asked.place, rate)
