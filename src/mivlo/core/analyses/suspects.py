"""What behaves like a fault in a stretch of a track, a group or the mix, before its own moves."""

from collections.abc import Iterable
from typing import Literal

import numpy as np
from pydantic import BaseModel, Field

from mivlo.core.analyses.base import Analysis, Known, OfStrip, Sound, Work
from mivlo.core.analyses.sounds import role_of, stretch_of
from mivlo.core.finder.audition import Auditions, auditions, keeper_around
from mivlo.core.finder.describe import sentence, sureness
from mivlo.core.finder.kinds import HINTS, Kind
from mivlo.core.finder.stretch import Findings, Suspect
from mivlo.core.finder.suspects import find
from mivlo.core.model import Behaviour, Dismissed, Evidence, Frozen, Keeper, RecordedSession
from mivlo.core.moves import Move
from mivlo.core.roles import Role
from mivlo.core.units import hz_to_note

__all__ = ["AskedStretch", "EventView", "SuspectView", "Suspects", "SuspectsIn", "SuspectsOf"]

SAME_CENTS = 60.0  # a hit's tolerance: nearer is the same suspect
ENOUGH_TO_SHOW = 0.03


class AskedStretch(OfStrip):
    """A stretch of the session, in seconds; where no end is said, up to the end of the song."""

    start_s: float = Field(default=0.0, ge=0.0)
    end_s: float | None = Field(default=None, gt=0.0)

    def within(self, session: RecordedSession) -> tuple[float, float]:
        """Return where it starts and ends."""
        return self.start_s, session.end_frame() / session.sample_rate_hz if self.end_s is None else self.end_s


class SuspectsIn(Frozen):
    """Frames of a sound, what it is, and the regions that are kept (low_hz, high_hz)."""

    sound: Sound
    start: int
    end: int
    sample_rate_hz: int
    role: Role | None
    keepers: tuple[tuple[float, float], ...]


class SuspectView(BaseModel):
    """A suspect as the margin shows it; times in seconds of the session."""

    id: str
    hz: float
    q: float
    kind: Kind
    behaviour: Behaviour
    confidence: float
    sureness: str
    excess_db: float
    ring_s: float | None
    ring_around_s: float | None
    share_of_time: float
    follows_notes: bool | None
    sentence: str
    hint: str
    times: list[tuple[float, float]]
    around_hz: list[float]
    around_db: list[float]
    cut: Move
    tame: Move
    proposed: Literal["cut", "tame"]
    evidence: Evidence
    auditions: Auditions
    keeper: Keeper


class EventView(BaseModel):
    """A plosive or a sibilant, in seconds of the session."""

    kind: Literal["plosive", "sibilance"]
    start_s: float
    end_s: float


class Suspects(BaseModel):
    """What was found in a stretch, without what the user has dismissed."""

    start_s: float
    end_s: float
    suspects: list[SuspectView]
    events: list[EventView]
    n_dismissed: int


class SuspectsOf(Analysis[AskedStretch, SuspectsIn, Findings]):
    """What the finder finds; its times are in seconds of the sound."""

    name = "suspects"
    asked, params, result, shown = AskedStretch, SuspectsIn, Findings, Suspects

    def question(self, session: RecordedSession, asked: AskedStretch, known: Known) -> SuspectsIn:
        strip = session.strip(asked.strip_id)
        sound, start, end, _ = stretch_of(session, strip, *asked.within(session))
        keepers = tuple((keeper.low_hz, keeper.high_hz) for keeper in strip.keepers)
        rate = session.sample_rate_hz
        return SuspectsIn(sound=sound, start=start, end=end, sample_rate_hz=rate, role=role_of(strip), keepers=keepers)

    def analyse(self, work: Work, params: SuspectsIn) -> Findings:
        return find(
            work.open(params.sound.audio_id), start=params.start, end=params.end, sample_rate_hz=params.sample_rate_hz,
            role=params.role, keepers=params.keepers,
        )  # fmt: skip

    def show(self, session: RecordedSession, asked: AskedStretch, params: SuspectsIn, result: Findings) -> Suspects:
        strip = session.strip(asked.strip_id)
        offset_s = stretch_of(session, strip, *asked.within(session)).offset_s
        start_s, end_s = (frame / params.sample_rate_hz + offset_s for frame in (params.start, params.end))
        shown = [suspect for suspect in result.suspects if suspect.confidence >= ENOUGH_TO_SHOW]
        kept = [suspect for suspect in shown if not _is_dismissed(suspect, strip.dismissed)]
        return Suspects(
            start_s=start_s,
            end_s=end_s,
            suspects=[_view(suspect, offset_s, start_s, end_s) for suspect in kept],
            events=[
                EventView(kind=e.kind, start_s=e.start_s + offset_s, end_s=e.end_s + offset_s) for e in result.events
            ],
            n_dismissed=len(shown) - len(kept),
        )

    def foreseen(self, session: RecordedSession) -> Iterable[AskedStretch]:
        return (AskedStretch(strip_id=track.id) for track in session.tracks)


def _is_dismissed(suspect: Suspect, dismissed: tuple[Dismissed, ...]) -> bool:
    return any(
        abs(1_200.0 * np.log2(suspect.hz / one.hz)) <= SAME_CENTS and (suspect.q < 4.0) == one.wide for one in dismissed
    )


def _view(suspect: Suspect, offset_s: float, start_s: float, end_s: float) -> SuspectView:
    note, _ = hz_to_note(suspect.hz)
    times = [(a + offset_s, b + offset_s) for a, b in suspect.times]
    evidence = Evidence(
        kind=suspect.kind,
        hz=suspect.hz,
        q=suspect.q,
        excess_db=suspect.excess_db,
        ring_s=suspect.ring_s,
        start_s=start_s,
        end_s=end_s,
        times=tuple(times),
        behaviour=suspect.behaviour,
    )
    return SuspectView(
        id=f"{suspect.kind}-{note}-{suspect.hz:.0f}",
        hz=suspect.hz,
        q=suspect.q,
        kind=suspect.kind,
        behaviour=suspect.behaviour,
        confidence=suspect.confidence,
        sureness=sureness(suspect.confidence),
        excess_db=suspect.excess_db,
        ring_s=suspect.ring_s,
        ring_around_s=suspect.ring_around_s,
        share_of_time=suspect.share_of_time,
        follows_notes=suspect.follows_notes,
        sentence=sentence(suspect),
        hint=HINTS[suspect.kind],
        times=times,
        around_hz=list(suspect.around_hz),
        around_db=list(suspect.around_db),
        cut=suspect.proposals.cut,
        tame=suspect.proposals.tame,
        proposed="cut" if suspect.behaviour == "steady" else "tame",
        evidence=evidence,
        auditions=auditions(hz=suspect.hz, q=suspect.q, excess_db=suspect.excess_db),
        keeper=keeper_around(suspect.hz, suspect.q),
    )
