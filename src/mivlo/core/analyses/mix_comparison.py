"""The whole mix without all moves and with them."""

from collections.abc import Iterable

from pydantic import BaseModel

from mivlo.core.analyses.base import Analysis, Known, Need, NoFigures, OfSession, Work
from mivlo.core.analyses.loudness import LoudnessOf, needs_of_match
from mivlo.core.engine.listening import Listening, MatchQuestion, Together, match_question
from mivlo.core.engine.render import render_mix
from mivlo.core.level_match import LevelMatch, matched
from mivlo.core.model import Frozen, RecordedSession
from mivlo.core.spectra.average import AXIS_HZ, band_levels_of

__all__ = ["ComparisonOf", "MixComparison", "MixComparisons", "MixSpectra", "match_of_mix"]


class MixSpectra(Analysis[NoFigures, LoudnessOf, list[float]]):
    """The average levels of a mix at the frequencies of the axis."""

    name = "mix-spectrum"
    params, result = LoudnessOf, list[float]

    def analyse(self, work: Work, params: LoudnessOf) -> list[float]:
        start, end, rate = params.start, max(params.end, params.start + 1), params.sample_rate_hz
        blocks = render_mix(params.mix, work.open, start=start, end=end, sample_rate_hz=rate)
        return [round(float(db), 2) for db in band_levels_of(blocks, end - start, sample_rate_hz=rate)]


_SPECTRA = MixSpectra()


class ComparisonOf(Frozen):
    """The two ways of listening that are compared."""

    match: MatchQuestion
    sample_rate_hz: int


class MixComparison(BaseModel):
    """The mix without all moves and with them, over the loop or the song; levels at the frequencies of the axis."""

    listening: LevelMatch
    hz: list[float]
    before_db: list[float]
    after_db: list[float]


class MixComparisons(Analysis[OfSession, ComparisonOf, MixComparison]):
    """What all moves together do to the mix."""

    name = "mix-comparison"
    asked, params, result = OfSession, ComparisonOf, MixComparison

    def question(self, session: RecordedSession, asked: OfSession, known: Known) -> ComparisonOf:
        return ComparisonOf(match=match_of_mix(session), sample_rate_hz=session.sample_rate_hz)

    def needs(self, params: ComparisonOf) -> Iterable[Need]:
        loudness = needs_of_match(params.match, params.sample_rate_hz)
        return (*loudness, *(Need(_SPECTRA, one.params) for one in loudness))

    def analyse(self, work: Work, params: ComparisonOf) -> MixComparison:
        before, after, before_db, after_db = (work.result(need) for need in self.needs(params))
        return MixComparison(
            listening=matched(before, after), hz=AXIS_HZ.tolist(), before_db=before_db, after_db=after_db
        )


def match_of_mix(session: RecordedSession) -> MatchQuestion:
    """Return what is to be equally loud: all ledgers off and on, over the whole mix. Raises nothing. Source: ours."""
    listening = Listening(treatment=session.treatment, together=Together(compares="all-moves"))
    question = match_question(session, listening, end_frame=session.end_frame())
    assert question is not None
    return question
