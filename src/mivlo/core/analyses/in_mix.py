"""How much of every suspect of a strip is heard in the mix, and what a move of it does to the mix."""

from collections.abc import Iterable

import numpy as np
from pydantic import BaseModel

from mivlo.core.analyses.base import Analysis, Known, Need, NoFigures, OfStrip, Sound, Work
from mivlo.core.analyses.cures import AskedMove, Cures, CuresIn, CuresOf, cures_of
from mivlo.core.analyses.ear_map import EarMapOf, Playing, as_mixed, map_need, who_plays
from mivlo.core.analyses.sounds import alone, sound_behind
from mivlo.core.analyses.suspects import AskedStretch, SuspectsIn, SuspectsOf
from mivlo.core.ensemble.in_mix import HeardAs, change_in_mix, fault_powers, heard_as, in_mix
from mivlo.core.ensemble.listening import full_scale_db_spl
from mivlo.core.errors import NotFoundError
from mivlo.core.finder.stretch import Findings, Suspect
from mivlo.core.finder.verify import Cure
from mivlo.core.model import Frozen, Group, RecordedSession, Track
from mivlo.core.remembered import remembered
from mivlo.core.round.order import fault_of

__all__ = ["HeardInMix", "InMixIn", "InMixOf", "ListeningLevels", "MovesInMix", "SuspectInMix", "playing_apart"]

SAME_CENTS = 60.0
LEAST_LEFT_DB = 0.3  # of a fault behind a cut: below, nothing of it is left to be heard


class LevelIn(Frozen):
    """Everybody who plays."""

    playing: tuple[Playing, ...]


class ListeningLevels(Analysis[NoFigures, LevelIn, float]):
    """The level in dB SPL of full scale, where the mix is listened to as loudly as stated."""

    name = "listening-level"
    params, result = LevelIn, float

    def needs(self, params: LevelIn) -> Iterable[Need]:
        return (map_need(one) for one in params.playing)

    def analyse(self, work: Work, params: LevelIn) -> float:
        return float(full_scale_db_spl(as_mixed(work, params.playing)))


_LEVELS, _SUSPECTS, _CURES = ListeningLevels(), SuspectsOf(), Cures()


class InMixIn(Frozen):
    """Everybody who plays, each by itself; the one whose suspects are asked for, as it sounds behind its moves; what
    became of those that were cut: numbers of its cures."""

    playing: tuple[Playing, ...]
    own: int
    sound: Sound
    start_frame: int
    offset_s: float  # where the suspects' sound begins
    suspects: SuspectsIn
    cures: CuresIn | None
    cured: tuple[int, ...]
    sample_rate_hz: int


class SuspectInMix(BaseModel):
    """A suspect among all that sounds, as `InMix`; in the order in which the finder names them."""

    hz: float
    left_db: float
    in_mix_db: float
    change_db: float
    heard: HeardAs
    covered_by: str | None
    plainest: tuple[float, float] | None


class HeardInMix(BaseModel):
    """All suspects of a strip, as they are heard in the mix."""

    suspects: list[SuspectInMix]


class InMixOf(Analysis[OfStrip, InMixIn, HeardInMix]):
    """Every suspect of a strip taken out of the mix, and listened for."""

    name = "in-mix"
    hangs_on_all = True
    asked, params, result = OfStrip, InMixIn, HeardInMix

    def question(self, session: RecordedSession, asked: OfStrip, known: Known) -> InMixIn:
        strip = session.strip(asked.strip_id)
        playing = playing_apart(session, strip)
        own = next((number for number, one in enumerate(playing) if one.id == strip.id), None)
        if own is None:
            raise NotFoundError(f"{strip.name} is not heard in the mix: it is muted, or has no sound")
        sound, start_frame = sound_behind(session, strip)
        _, _, start = alone(session, strip)
        whole = AskedStretch(strip_id=strip.id)
        acting = [one for one in strip.lasting_ledger if one.evidence is not None and one.move.on and strip.acts]
        cures = cures_of(session, strip) if acting else None
        cured = tuple(cures.number(one.evidence) for one in acting if one.evidence is not None) if cures else ()
        return InMixIn(
            playing=playing, own=own, sound=sound, start_frame=start_frame,
            offset_s=start / session.sample_rate_hz, suspects=_SUSPECTS.question(session, whole, known), cures=cures,
            cured=cured, sample_rate_hz=session.sample_rate_hz,
        )  # fmt: skip

    def needs(self, params: InMixIn) -> Iterable[Need]:
        yield Need(_SUSPECTS, params.suspects)
        yield Need(_LEVELS, LevelIn(playing=params.playing))
        yield from (map_need(one) for one in params.playing)
        if params.cures is not None:
            yield Need(_CURES, params.cures)

    def analyse(self, work: Work, params: InMixIn) -> HeardInMix:
        findings: Findings = work.result(Need(_SUSPECTS, params.suspects))
        cures: list[tuple[float, Cure]] = []
        if params.cures is not None:
            of_strip: CuresOf = work.result(Need(_CURES, params.cures))
            cures = [(params.cures.answered[at].hz, cure) for at in params.cured if (cure := of_strip.cures[at])]
        tracks = as_mixed(work, params.playing)
        full_scale_db: float = work.result(Need(_LEVELS, LevelIn(playing=params.playing)))
        left = [_left_db(suspect, cures) for suspect in findings.suspects]
        faults = [
            fault_of(suspect, gain_db, params.offset_s)
            for suspect, gain_db in zip(findings.suspects, left, strict=True)
        ]  # fmt: skip
        rate = params.sample_rate_hz
        found = fault_powers(
            work.open(params.sound.audio_id), faults, tracks[params.own], start=params.start_frame, sample_rate_hz=rate
        )
        heard = []
        for number, (suspect, gain_db, powers) in enumerate(zip(findings.suspects, left, found, strict=True)):
            one = in_mix(tracks, params.own, powers, full_scale_db=full_scale_db, hop_s=tracks[params.own].heard.hop_s)
            covered_by = None if one.covered_by is None else params.playing[one.covered_by].id
            heard.append(
                SuspectInMix(
                    hz=suspect.hz, left_db=gain_db, in_mix_db=one.in_mix_db, change_db=one.change_db, heard=one.heard,
                    covered_by=covered_by, plainest=one.plainest_s,
                )
            )  # fmt: skip
            work.report((number + 1) / len(faults))
        return HeardInMix(suspects=heard)

    def foreseen(self, session: RecordedSession) -> Iterable[OfStrip]:
        return (OfStrip(strip_id=track.id) for track in session.tracks)


def _left_db(suspect: Suspect, cures: list[tuple[float, Cure]]) -> float:
    """Return how far a suspect stands out behind the moves: what was cut does no more."""
    near = [cure for hz, cure in cures if abs(1_200.0 * np.log2(hz / suspect.hz)) <= SAME_CENTS]
    left = suspect.excess_db if not near else min(near[-1].left_db, suspect.excess_db)
    return float(left) if left >= LEAST_LEFT_DB else 0.0


def playing_apart(session: RecordedSession, strip: Track | Group) -> tuple[Playing, ...]:
    """Return everybody who plays, each track by itself at its fader and those of its groups; of a group and the mix,
    that one and all others.

    The moves of groups are not in what their tracks are heard as. Raises nothing. Source: ours.
    """
    if isinstance(strip, Group):
        if strip.id == session.master.id:
            return _as_one(session)
        within = session.sources_of(strip.id)
        outer = who_plays(session.model_copy(update={"groups": (strip,)}))
        own = tuple(one for one in outer if one.id == strip.id)
        return (*own, *(one for one in _tracks_apart(session) if one.id not in within))
    return _tracks_apart(session)


def _as_one(session: RecordedSession) -> tuple[Playing, ...]:
    sound, _ = sound_behind(session, session.master)
    mix = alone(session, session.master).mix
    heard = EarMapOf(
        mix=mix, is_group=False, n_channels=sound.n_channels, end=session.end_frame(),
        sample_rate_hz=session.sample_rate_hz,
    )  # fmt: skip
    return (Playing(id=session.master.id, gain_db=0.0, pan=0.0, map=heard),)


@remembered(8)
def _tracks_apart(session: RecordedSession) -> tuple[Playing, ...]:
    groups = {group.id: group for group in session.groups}
    outermost = session.model_copy(
        update={"tracks": tuple(track.model_copy(update={"group_id": None}) for track in session.tracks)}
    )
    heard = {one.id: one for one in who_plays(outermost)}
    found = []
    for track in session.tracks:
        gain_db, above, is_muted = 0.0, track.group_id, False
        while above in groups:
            gain_db += groups[above].gain_db
            is_muted |= groups[above].mute
            above = groups[above].group_id
        if track.id in heard and not is_muted:
            found.append(heard[track.id].model_copy(update={"gain_db": heard[track.id].gain_db + gain_db}))
    return tuple(found)


class MoveInMixIn(Frozen):
    """Everybody who plays, the one with a move, and that one without it."""

    playing: tuple[Playing, ...]
    own: int
    without: Playing


class MoveInMix(BaseModel):
    """What the mix changes by a move: in dB in the band where most, and its loudness in per cent."""

    change_db: float
    loudness_percent: float
    heard: HeardAs


class MovesInMix(Analysis[AskedMove, MoveInMixIn, MoveInMix]):
    """The mix with a move and without it."""

    name = "move-in-mix"
    asked, params, result = AskedMove, MoveInMixIn, MoveInMix

    def question(self, session: RecordedSession, asked: AskedMove, known: Known) -> MoveInMixIn:
        strip = session.strip(asked.strip_id)
        if all(entry.id != asked.entry_id for entry in strip.ledger):
            raise NotFoundError(f"move {asked.entry_id} is not in this ledger")
        playing = playing_apart(session, strip)
        own = next((number for number, one in enumerate(playing) if one.id == strip.id), None)
        if own is None:
            raise NotFoundError(f"{strip.name} is not heard in the mix: it is muted, or has no sound")
        ledger = tuple(entry for entry in strip.ledger if entry.id != asked.entry_id)
        other = session.with_strip(strip.id, lambda _: {"ledger": ledger})
        assert isinstance(other, RecordedSession)
        without = next(one for one in playing_apart(other, other.strip(strip.id)) if one.id == strip.id)
        return MoveInMixIn(playing=playing, own=own, without=without)

    def needs(self, params: MoveInMixIn) -> Iterable[Need]:
        yield Need(_LEVELS, LevelIn(playing=params.playing))
        yield from (map_need(one) for one in (*params.playing, params.without))

    def analyse(self, work: Work, params: MoveInMixIn) -> MoveInMix:
        full_scale_db: float = work.result(Need(_LEVELS, LevelIn(playing=params.playing)))
        tracks, (without,) = as_mixed(work, params.playing), as_mixed(work, (params.without,))
        change_db, percent = change_in_mix(tracks, params.own, without, full_scale_db=full_scale_db)
        return MoveInMix(change_db=change_db, loudness_percent=percent, heard=heard_as(change_db))
