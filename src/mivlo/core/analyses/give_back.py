"""How much the moves of a strip took of its lows and highs, and the harmonics that give a share of it back."""

from collections.abc import Sequence

import numpy as np
from pydantic import BaseModel, Field

from mivlo.core.analyses.base import Analysis, Known, OfStrip, Sound, Work
from mivlo.core.analyses.sounds import alone
from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import render_track
from mivlo.core.give_back import GivenBack, give_back
from mivlo.core.model import Frozen, LedgerEntry, RecordedSession
from mivlo.core.moves import Move
from mivlo.core.units import Array

__all__ = ["AskedShare", "GiveBackIn", "GiveBackView", "GivesBack"]

LONGEST_S = 12.0  # in the middle: what is missing is missing all along


class AskedShare(OfStrip):
    """Of what is gone, how much is to come back, in per cent."""

    share: float = Field(default=50.0, ge=1.0, le=100.0)


class GiveBackIn(Frozen):
    """A strip alone with its ledger, and what of it has been cured."""

    mix: Mix
    sound: Sound
    share: float
    cured_hz: tuple[float, ...]
    sample_rate_hz: int


class GiveBackView(BaseModel):
    """Moves for the head of the ledger; parts, 0 to 1, of the loudness of lows and highs that are gone without and
    with them."""

    moves: list[Move]
    lost_low: float
    lost_high: float
    left_low: float
    left_high: float
    inside_cuts: float


class GivesBack(Analysis[AskedShare, GiveBackIn, GivenBack]):
    """What the cuts took, measured, and the warmth and air that bring a share of it back."""

    name = "give-back"
    asked, params, result, shown = AskedShare, GiveBackIn, GivenBack, GiveBackView

    def question(self, session: RecordedSession, asked: AskedShare, known: Known) -> GiveBackIn:
        strip = session.strip(asked.strip_id)
        mix, sound, _ = alone(session, strip)
        cured = tuple(entry.evidence.hz for entry in strip.lasting_ledger if entry.evidence is not None)
        rate = session.sample_rate_hz
        return GiveBackIn(mix=mix, sound=sound, share=asked.share / 100.0, cured_hz=cured, sample_rate_hz=rate)

    def analyse(self, work: Work, params: GiveBackIn) -> GivenBack:
        own, rate, n_frames = params.mix.tracks[0], params.sample_rate_hz, params.sound.n_frames
        length = min(n_frames, round(LONGEST_S * rate))
        start = (n_frames - length) // 2
        first = own.start_frame + start

        def render(moves: Sequence[Move]) -> Array:
            head = tuple(LedgerEntry(id=f"given back {n}", move=move) for n, move in enumerate(moves))
            track = own.model_copy(update={"ledger": (*head, *own.ledger)})
            mix = params.mix.model_copy(update={"tracks": (track, *params.mix.tracks[1:])})
            blocks = render_track(mix, own.id, work.open, start=first, end=first + length, sample_rate_hz=rate)
            return np.concatenate(list(blocks), axis=1)

        untreated = np.asarray(work.open(own.audio_id).read(start, length), dtype=np.float64)
        return give_back(untreated, render, share=params.share, cured_hz=params.cured_hz, sample_rate_hz=rate)

    def show(
        self, session: RecordedSession, asked: AskedShare, params: GiveBackIn, result: GivenBack
    ) -> GiveBackView:  # fmt: skip
        return GiveBackView(
            moves=list(result.moves), lost_low=result.lost_low, lost_high=result.lost_high, left_low=result.left_low,
            left_high=result.left_high, inside_cuts=result.inside_cuts,
        )  # fmt: skip
