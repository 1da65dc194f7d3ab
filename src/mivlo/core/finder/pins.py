"""What may be said to a pin: the cut, the move that acts only in the loud moments, and the region that is kept."""

from pydantic import BaseModel

from mivlo.core.engine.source import Source
from mivlo.core.finder.proposals import with_threshold
from mivlo.core.model import Keeper
from mivlo.core.moves import Move
from mivlo.core.moves.bell import Bell
from mivlo.core.moves.dynamic_bell import DynamicBell
from mivlo.core.units import octaves_to_q

__all__ = ["PinAnswers", "answers_to_pin"]

USUAL_DB, SHALLOWEST_DB, DEEPEST_DB = 6.0, 3.0, 12.0  # common practice, no source: 3 to 6 dB, a plain ring deeper


class PinAnswers(BaseModel):
    """Moves and a keeper that are ready to be taken over."""

    cut: Move
    tame: Move
    keeper: Keeper


def answers_to_pin(
    source: Source, *, hz: float, width_octaves: float, excess_db: float | None, sample_rate_hz: float
) -> PinAnswers:  # fmt: skip
    """Return what answers a pin in a track: as narrow as what was probed, as deep as it stood out within reason.

    What tames it acts in the loud moments of what it hears in the track.

    Raises
    ------
    Nothing.

    Source: ours
    """
    deep = USUAL_DB if excess_db is None else min(max(round(excess_db), SHALLOWEST_DB), DEEPEST_DB)
    q = octaves_to_q(width_octaves)
    half = 2.0 ** (width_octaves / 2.0)
    when_loud = DynamicBell.starts[0].values
    tame = DynamicBell.model_validate({**when_loud, "hz": hz, "q": min(q, 30.0)})
    tame = with_threshold(tame, source, times=None, start=0, end=source.n_frames, sample_rate_hz=sample_rate_hz)
    return PinAnswers(
        cut=Bell(hz=hz, gain_db=-deep, q=q), tame=tame,
        keeper=Keeper(low_hz=max(hz / half, 20.0), high_hz=min(hz * half, 20_000.0)),
    )  # fmt: skip
