"""All kinds of analysis, each named here once."""

from collections.abc import Iterator
from typing import Any

from pydantic import BaseModel

from mivlo.core.analyses.base import AnyAnalysis
from mivlo.core.analyses.came_back import CamesBack
from mivlo.core.analyses.cellar import Cellars, LowEnds, PileUps
from mivlo.core.analyses.cures import Cures, Losses
from mivlo.core.analyses.ear_map import EarMaps
from mivlo.core.analyses.ensemble import Ensembles
from mivlo.core.analyses.file_faults import FileFaults
from mivlo.core.analyses.give_back import GivesBack
from mivlo.core.analyses.in_mix import InMixOf, ListeningLevels, MovesInMix
from mivlo.core.analyses.likeness import Balances, Likenesses
from mivlo.core.analyses.loudness import Loudnesses
from mivlo.core.analyses.masking import Maskings
from mivlo.core.analyses.mix_comparison import MixComparisons, MixSpectra
from mivlo.core.analyses.mono_sum import MonoSums
from mivlo.core.analyses.picture import Pictures
from mivlo.core.analyses.pin_answers import PinsAnswered
from mivlo.core.analyses.pitch import PitchLines
from mivlo.core.analyses.plan import Plans
from mivlo.core.analyses.planned_columns import PlannedColumns
from mivlo.core.analyses.pressure import Pressures
from mivlo.core.analyses.relations import Relations
from mivlo.core.analyses.rendered import Rendered
from mivlo.core.analyses.replaced import Replacements
from mivlo.core.analyses.side_by_side import SideFigures, SidePictures, Sides
from mivlo.core.analyses.spectrum import Spectra
from mivlo.core.analyses.survey import Surveys
from mivlo.core.analyses.suspects import SuspectsOf
from mivlo.core.analyses.waveform import Waveforms
from mivlo.core.analyses.yields import Yields
from mivlo.core.errors import MivloError
from mivlo.core.model import RecordedSession

__all__ = ["ANALYSES", "foreseen"]

# In the order in which they are computed in the background: what is seen first comes first.
ANALYSES: dict[str, AnyAnalysis] = {
    analysis.name: analysis
    for analysis in (
        Pictures(), Waveforms(), Spectra(), SuspectsOf(), Rendered(), PitchLines(), LowEnds(), Cellars(), PileUps(),
        EarMaps(), Ensembles(), Yields(), ListeningLevels(), InMixOf(), MovesInMix(), Cures(), Losses(), Surveys(),
        PinsAnswered(), Loudnesses(), MixSpectra(), MixComparisons(), Pressures(), GivesBack(), MonoSums(), CamesBack(),
        Plans(), PlannedColumns(), FileFaults(), Relations(), Balances(), Likenesses(),
        SideFigures(), Sides(), SidePictures(), Maskings(), Replacements(),
    )
}  # fmt: skip


def foreseen(session: RecordedSession) -> Iterator[tuple[AnyAnalysis, BaseModel, Any]]:
    """Yield what will be asked of a session: analysis, question and figures, what is seen first at the front.

    Raises
    ------
    Nothing: of what cannot be asked just now, nothing is foreseen.

    Source: ours
    """
    for analysis in ANALYSES.values():
        for asked in analysis.foreseen(session):
            try:
                yield analysis, asked, analysis.question(session, asked, lambda _: None)
            except MivloError:
                continue
