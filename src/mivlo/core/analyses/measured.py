"""What the whole mix reads without all moves and with them."""

from pydantic import BaseModel

from mivlo.core.analyses.base import Analysis, Known, OfSession, Work
from mivlo.core.analyses.mix_comparison import match_of_mix
from mivlo.core.engine.listening import MatchQuestion
from mivlo.core.engine.render import render_mix
from mivlo.core.model import Frozen, RecordedSession
from mivlo.core.proof.measured import SoundFigures, figures_of

__all__ = ["MeasuredIn", "MixFigures", "MixMeasures"]


class MeasuredIn(Frozen):
    """The two ways of listening that are measured."""

    match: MatchQuestion
    sample_rate_hz: int


class MixFigures(BaseModel):
    """What the mix reads without all moves, and with them, over the loop or the song."""

    before: SoundFigures
    after: SoundFigures


class MixMeasures(Analysis[OfSession, MeasuredIn, MixFigures]):
    """Loudness, true peak, loudness range and crest factors of the mix, without all moves and with them."""

    name = "mix-figures"
    asked, params, result = OfSession, MeasuredIn, MixFigures

    def question(self, session: RecordedSession, asked: OfSession, known: Known) -> MeasuredIn:
        return MeasuredIn(match=match_of_mix(session), sample_rate_hz=session.sample_rate_hz)

    def analyse(self, work: Work, params: MeasuredIn) -> MixFigures:
        start, end, rate = params.match.start, params.match.end, params.sample_rate_hz
        before, after = (
            figures_of(render_mix(mix, work.open, start=start, end=end, sample_rate_hz=rate), sample_rate_hz=rate)
            for mix in (params.match.without, params.match.within)
        )
        return MixFigures(before=before, after=after)
