"""The move by which the track without the right of way yields in a clash; it waits for a yes."""

from collections.abc import Iterable

from pydantic import BaseModel, Field

from mivlo.core.analyses.base import Analysis, Known, Need, OfSession, Work, key_of
from mivlo.core.analyses.ear_map import Playing, as_mixed, map_need
from mivlo.core.analyses.ensemble import Ensemble, Ensembles
from mivlo.core.analyses.sounds import role_of
from mivlo.core.engine.source import Source, SumSource
from mivlo.core.ensemble.listening import hear, sampled
from mivlo.core.ensemble.yielding import DEEPEST_DB, DEFAULT_PART, Contender, Region, Terms, draft_yield
from mivlo.core.errors import NotFoundError, ParameterError
from mivlo.core.model import ClashReason, Frozen, LedgerEntry, RecordedSession, members_under
from mivlo.core.moves import Move
from mivlo.core.roles import Role

__all__ = ["AskedYield", "DraftedYield", "Party", "YieldOf", "YieldView", "Yields", "party_of", "summed"]

_ENSEMBLES = Ensembles()


class AskedYield(OfSession):
    """A clash of the session as it is now, and the terms; as `Terms`."""

    clash_id: str
    part: float = Field(default=DEFAULT_PART, gt=0.0, le=1.0)
    limit_db: float | None = Field(default=None, ge=0.1, le=DEEPEST_DB)
    is_dynamic: bool = True


class RawSound(Frozen):
    """A file as a key hears it: before all moves, from a frame of the session on."""

    audio_id: str
    start_frame: int


class Party(Frozen):
    """One of the two in a clash: its number among those who play, what it is, and its raw sound."""

    number: int
    id: str
    role: Role | None
    pan: float
    sounds: tuple[RawSound, ...]


class YieldOf(Frozen):
    """Everybody who plays, the region and times of a clash, the two in it, and the terms."""

    playing: tuple[Playing, ...]
    front: Party
    yielding: Party
    hidden: str
    sentence: str  # on the clash
    low_hz: float
    high_hz: float
    times: tuple[tuple[float, float], ...]
    part: float
    limit_db: float | None
    is_dynamic: bool
    full_scale_db: float
    sample_rate_hz: int


class DraftedYield(BaseModel):
    """A drafted move, as `Drafted`."""

    move: Move
    limit_db: float
    capped: bool
    regained: float
    costs_percent: float


class YieldView(BaseModel):
    """A drafted yield: for which strip, the entry of its ledger, and what the model expects of it."""

    strip_id: str
    entry: LedgerEntry
    limit_db: float
    capped: bool
    regained_percent: float
    costs_percent: float


class Yields(Analysis[AskedYield, YieldOf, DraftedYield]):
    """A yield, least depth first."""

    name = "yield"
    asked, params, result, shown = AskedYield, YieldOf, DraftedYield, YieldView

    def question(self, session: RecordedSession, asked: AskedYield, known: Known) -> YieldOf:
        together = _ENSEMBLES.question(session, OfSession(), known)
        heard: Ensemble | None = known(Need(_ENSEMBLES, together))
        if heard is None:
            raise NotFoundError("the session is not analysed as it is now: ask for the ensemble first")
        shown = _ENSEMBLES.show(session, OfSession(), together, heard)
        view = next((one for one in shown.clashes if one.id == asked.clash_id), None)
        if view is None:
            raise NotFoundError(f"clash {asked.clash_id} is not there any more")
        if view.by is None:
            raise ParameterError(
                "many tracks hide it together: no single one can yield; choose a clash with one of them"
            )
        if view.same_sound:
            raise ParameterError("both are the same sound: what one gives way, the other loses too")
        if view.first is None or view.yielding is None:
            raise ParameterError("both stay, by your decision: nobody is to yield here")
        return YieldOf(
            playing=together.before, front=party_of(session, together.before, view.first),
            yielding=party_of(session, together.before, view.yielding), hidden=view.hidden, sentence=view.sentence,
            low_hz=view.low_hz, high_hz=view.high_hz,
            times=tuple(view.times), part=asked.part, limit_db=asked.limit_db, is_dynamic=asked.is_dynamic,
            full_scale_db=heard.full_scale_db, sample_rate_hz=session.sample_rate_hz,
        )  # fmt: skip

    def needs(self, params: YieldOf) -> Iterable[Need]:
        return (map_need(one) for one in params.playing)

    def analyse(self, work: Work, params: YieldOf) -> DraftedYield:
        tracks = sampled(as_mixed(work, params.playing))
        heard = hear(tracks, full_scale_db=params.full_scale_db)
        rate = params.sample_rate_hz

        def contender(party: Party) -> Contender:
            source, start = summed(work, party.sounds)
            return Contender(party.number, party.id, source, start / rate, party.role, party.pan)

        drafted = draft_yield(
            tracks, heard, Region(params.low_hz, params.high_hz, params.times),
            Terms(params.part, params.limit_db, params.is_dynamic), front=contender(params.front),
            yielding=contender(params.yielding), full_scale_db=params.full_scale_db, sample_rate_hz=rate,
        )  # fmt: skip
        return DraftedYield(
            move=drafted.move, limit_db=drafted.limit_db, capped=bool(drafted.capped),
            regained=float(drafted.regained), costs_percent=float(drafted.costs_percent),
        )  # fmt: skip

    def show(self, session: RecordedSession, asked: AskedYield, params: YieldOf, result: DraftedYield) -> YieldView:
        front = session.strip(params.front.id)
        entry = LedgerEntry(
            id=key_of(self, params), move=result.move, reason=f"Gives way to {front.name}: {params.sentence}"[:500],
            clash=ClashReason(front=front.id, hidden=params.hidden, low_hz=params.low_hz, high_hz=params.high_hz),
        )  # fmt: skip
        return YieldView(
            strip_id=params.yielding.id, entry=entry, limit_db=result.limit_db, capped=result.capped,
            regained_percent=100.0 * result.regained, costs_percent=result.costs_percent,
        )  # fmt: skip


def party_of(session: RecordedSession, playing: tuple[Playing, ...], strip_id: str) -> Party:
    """Return one of those who play, with what a key hears of it: before all moves. Raises nothing. Source: ours."""
    number = next(number for number, one in enumerate(playing) if one.id == strip_id)
    inside = members_under(strip_id, session.tracks, session.groups)
    tracks = [track for track in session.tracks if track.id == strip_id or track.id in inside]
    return Party(
        number=number, id=strip_id, role=role_of(session.strip(strip_id)), pan=playing[number].pan,
        sounds=tuple(RawSound(audio_id=track.audio_id, start_frame=track.start_frame) for track in tracks),
    )  # fmt: skip


def summed(work: Work, sounds: tuple[RawSound, ...]) -> tuple[Source, int]:
    """Return one sound of several, and the session frame at which it begins. Raises nothing. Source: ours."""
    sources = [(work.open(one.audio_id), one.start_frame) for one in sounds]
    if len(sources) == 1:
        return sources[0]
    first = min(start for _, start in sources)
    return SumSource(tuple((source, start - first) for source, start in sources)), first
