"""The low end of every track, how high each may be cut, and how all of them add up."""

from collections.abc import Iterable

import numpy as np
from pydantic import BaseModel

from mivlo.core.analyses.base import Analysis, Known, Need, NoFigures, OfSession, Work
from mivlo.core.cellar import Cellar, CellarTrack, LowEnd, PileUp, clear_the_cellar, low_end_of, pile_up
from mivlo.core.model import Frozen, RecordedSession, Track
from mivlo.core.moves.low_cut import LowCut
from mivlo.core.roles import Role

__all__ = ["AskedPileUp", "CellarOf", "CellarRow", "CellarView", "Cellars", "LowEnds", "PileUpOf", "PileUps"]

POWER = "power.npy"


class LowEndOf(Frozen):
    """A track's file as it lies in a song, and what it plays."""

    audio_id: str
    start_frame: int
    end_frame: int
    role: Role
    sample_rate_hz: int


class LowEndView(BaseModel):
    """A low end without its powers, which lie beside this: `POWER`, float32 (frames, bands)."""

    lowest_note_hz: float | None
    low_hz: list[float]
    low_db: list[float]
    low_power: list[float]
    hz: list[float]


class LowEnds(Analysis[NoFigures, LowEndOf, LowEndView]):
    """The low end of one track, whatever its fader."""

    name = "low-end"
    version = 2
    writes_files = True
    params, result = LowEndOf, LowEndView

    def analyse(self, work: Work, params: LowEndOf) -> LowEndView:
        low = low_end_of(
            work.open(params.audio_id), start_frame=params.start_frame, role=params.role, end_frame=params.end_frame,
            sample_rate_hz=params.sample_rate_hz,
        )  # fmt: skip
        np.save(work.folder / POWER, low.power)
        return LowEndView(
            lowest_note_hz=low.lowest_note_hz, low_hz=list(low.low_hz), low_db=list(low.low_db),
            low_power=list(low.low_power), hz=low.hz.tolist(),
        )  # fmt: skip


_LOW_ENDS = LowEnds()


class LowTrack(Frozen):
    """A track as it stands in the mix."""

    id: str
    low_end: LowEndOf
    gain_db: float


class CellarOf(Frozen):
    """All tracks that sound."""

    tracks: tuple[LowTrack, ...]
    sample_rate_hz: int


class CellarRow(BaseModel):
    """One track's low end and how high it may be cut; None where nothing is to be gained."""

    track_id: str
    needs_lows: bool
    lowest_note_hz: float | None
    safe: LowCut | None
    in_the_mix: LowCut | None
    low_hz: list[float]
    low_db: list[float]


class CellarView(BaseModel):
    """All tracks' low ends."""

    rows: list[CellarRow]


class Cellars(Analysis[OfSession, CellarOf, Cellar]):
    """Proposals for the lows of all tracks, each beside the others as they are mixed."""

    name = "cellar"
    asked, params, result, shown = OfSession, CellarOf, Cellar, CellarView

    def question(self, session: RecordedSession, asked: OfSession, known: Known) -> CellarOf:
        end_frame, rate = session.end_frame(), session.sample_rate_hz

        def low_end(t: Track) -> LowEndOf:
            start = t.start_frame
            return LowEndOf(
                audio_id=t.audio_id, start_frame=start, end_frame=end_frame, role=t.role, sample_rate_hz=rate
            )

        tracks = (LowTrack(id=t.id, low_end=low_end(t), gain_db=t.gain_db) for t in session.tracks if not t.mute)
        return CellarOf(tracks=tuple(tracks), sample_rate_hz=rate)

    def needs(self, params: CellarOf) -> Iterable[Need]:
        return (Need(_LOW_ENDS, one.low_end) for one in params.tracks)

    def analyse(self, work: Work, params: CellarOf) -> Cellar:
        def as_mixed(one: LowTrack) -> CellarTrack:
            need = Need(_LOW_ENDS, one.low_end)
            low: LowEndView = work.result(need)
            power = np.load(work.folder_of(need) / POWER)
            end = LowEnd(
                low.lowest_note_hz, tuple(low.low_hz), tuple(low.low_db), tuple(low.low_power), np.array(low.hz), power
            )
            return CellarTrack(one.id, end, one.low_end.role, one.gain_db)

        return clear_the_cellar([as_mixed(one) for one in params.tracks], sample_rate_hz=params.sample_rate_hz)

    def show(self, session: RecordedSession, asked: OfSession, params: CellarOf, result: Cellar) -> CellarView:
        rows = [
            CellarRow(
                track_id=cut.track_id, needs_lows=cut.needs_lows, lowest_note_hz=cut.lowest_note_hz, safe=cut.safe,
                in_the_mix=cut.in_the_mix, low_hz=list(cut.low_hz), low_db=list(cut.low_db),
            )
            for cut in result.tracks
        ]  # fmt: skip
        return CellarView(rows=rows)

    def foreseen(self, session: RecordedSession) -> Iterable[OfSession]:
        return (OfSession(),) if session.tracks else ()


_CELLARS = Cellars()


class AskedPileUp(OfSession):
    """Low cuts by the ids of their tracks."""

    cuts: dict[str, LowCut]


class PileUpOf(Frozen):
    """The tracks, and the cuts that were chosen, by the ids of their tracks."""

    cellar: CellarOf
    cuts: tuple[tuple[str, LowCut], ...]


class PileUps(Analysis[AskedPileUp, PileUpOf, PileUp]):
    """How the lows of all tracks add up beside what bass and kick need, before and after the chosen cuts."""

    name = "pile-up"
    asked, params, result = AskedPileUp, PileUpOf, PileUp

    def question(self, session: RecordedSession, asked: AskedPileUp, known: Known) -> PileUpOf:
        cellar = _CELLARS.question(session, OfSession(), known)
        return PileUpOf(cellar=cellar, cuts=tuple(sorted(asked.cuts.items())))

    def needs(self, params: PileUpOf) -> Iterable[Need]:
        return (Need(_CELLARS, params.cellar),)

    def analyse(self, work: Work, params: PileUpOf) -> PileUp:
        return pile_up(work.result(Need(_CELLARS, params.cellar)), dict(params.cuts))
