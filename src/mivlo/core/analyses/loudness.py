"""How loud a way of listening is: what level matches and guards go by."""

from mivlo.core.analyses.base import Analysis, Need, NoFigures, Work
from mivlo.core.engine.listening import MatchQuestion
from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import render_mix
from mivlo.core.level_match import Loudness, loudness_of
from mivlo.core.model import Frozen

__all__ = ["LoudnessOf", "Loudnesses", "needs_of_match"]


class LoudnessOf(Frozen):
    """Frames of the session as a mix sounds there."""

    mix: Mix
    start: int
    end: int
    sample_rate_hz: int


class Loudnesses(Analysis[NoFigures, LoudnessOf, Loudness]):
    """Loudness and true peak of a mix."""

    name = "loudness"
    params, result = LoudnessOf, Loudness

    def analyse(self, work: Work, params: LoudnessOf) -> Loudness:
        if params.end <= params.start:
            return Loudness(loudness_lufs=None, true_peak_db=None)
        rate = params.sample_rate_hz
        blocks = render_mix(params.mix, work.open, start=params.start, end=params.end, sample_rate_hz=rate)
        return loudness_of(work.counted(blocks, params.end - params.start), sample_rate_hz=rate)


_LOUDNESSES = Loudnesses()


def needs_of_match(question: MatchQuestion, sample_rate_hz: int) -> tuple[Need, ...]:
    """Return what must be measured of the ways of listening that a level match compares. Raises nothing."""
    start, end = question.start, question.end

    def need(mix: Mix) -> Need:
        return Need(_LOUDNESSES, LoudnessOf(mix=mix, start=start, end=end, sample_rate_hz=sample_rate_hz))

    return tuple(map(need, (question.without, question.within, *question.others)))
