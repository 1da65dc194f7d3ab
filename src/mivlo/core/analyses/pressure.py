"""The pressure test: what of a strip's suspects comes back behind all that stands for what is done later."""

from collections.abc import Iterable, Sequence

import numpy as np
from pydantic import BaseModel

from mivlo.core.analyses.base import Analysis, Known, Need, OfStrip, Rendering, Sound, Work
from mivlo.core.analyses.cures import Cures, CuresIn, CuresOf, cures_of
from mivlo.core.analyses.sounds import rendering_under_pressure, sound_behind, sound_into
from mivlo.core.analyses.suspects import AskedStretch, SuspectsIn, SuspectsOf
from mivlo.core.engine.mix import Mix
from mivlo.core.engine.render import render_mix
from mivlo.core.engine.source import ArraySource
from mivlo.core.errors import NotFoundError
from mivlo.core.finder.coming_back import (
    LEFT_FROM_DB,
    Moments,
    Untreated,
    back_db,
    comes_back,
    loudness_change_db,
)
from mivlo.core.finder.passages import passages_for
from mivlo.core.finder.stretch import Findings
from mivlo.core.finder.verify import BeforeAndAfter, measure_again
from mivlo.core.model import Evidence, Frozen, LedgerEntry, RecordedSession
from mivlo.core.moves import Move
from mivlo.core.moves.deeper import deepened
from mivlo.core.moves.figures import meanings_of

__all__ = ["Back", "Pressure", "PressureIn", "PressureRow", "PressureView", "Pressures"]

LEAST_ODDS = 0.15  # of a suspect that nobody cut
ANSWERED_CENTS = 100.0
MARGIN_DB, TURNS = 0.3, 3
TRIED_S, LEAD_S = 20.0, 1.0  # of a long track, and before a fault begins


class PressureIn(Frozen):
    """A strip's sounds, and what its moves answer; `at` is the frame at which it starts in the session."""

    untreated: Sound
    off: Sound  # behind its moves
    on: Rendering  # behind its stand-ins as well, from frame 0 of the session on: of a long track, passages are made
    at: int
    entries: tuple[LedgerEntry, ...]  # that answer a suspect
    cures: CuresIn | None  # of all of them
    suspects: SuspectsIn
    sample_rate_hz: int


class Back(Frozen):
    """One suspect behind the stand-ins; `entry_id` is the move that answers it, if any does."""

    entry_id: str | None
    evidence: Evidence
    excess_db: float
    back_db: float
    deeper: Move | None = None  # what would hold it down


class Pressure(Frozen):
    """All suspects of a strip, and by how much the stand-ins make it louder."""

    louder_db: float
    suspects: tuple[Back, ...]


class PressureRow(BaseModel):
    """A suspect behind the stand-ins, in words and figures."""

    entry_id: str | None
    hz: float
    q: float
    sentence: str
    excess_db: float
    back_db: float
    comes_back: bool
    deeper: Move | None
    deeper_by_db: float | None
    start_s: float
    end_s: float


class PressureView(BaseModel):
    """A strip under pressure: what comes back first, strongest first."""

    strip_id: str
    louder_db: float
    rows: list[PressureRow]


class Pressures(Analysis[OfStrip, PressureIn, Pressure]):
    """Every suspect of a strip measured once more behind its stand-ins; None where it has none."""

    name = "pressure"
    version = 2
    asked, params, result, shown = OfStrip, PressureIn, Pressure, PressureView

    def question(self, session: RecordedSession, asked: OfStrip, known: Known) -> PressureIn:
        strip = session.strip(asked.strip_id)
        on = rendering_under_pressure(session, strip)
        if on is None:
            raise NotFoundError(f"nothing stands for what is done to {strip.name} later: let stand-ins be drafted")
        untreated, at = sound_into(session, strip)
        entries = tuple(entry for entry in strip.lasting_ledger if entry.evidence is not None and entry.move.on)
        whole = AskedStretch(strip_id=strip.id, start_s=0.0, end_s=None)
        return PressureIn(
            untreated=untreated, off=sound_behind(session, strip)[0], on=on, at=at, entries=entries,
            cures=cures_of(session, strip) if entries else None,
            suspects=_SUSPECTS.question(session, whole, known), sample_rate_hz=session.sample_rate_hz,
        )  # fmt: skip

    def needs(self, params: PressureIn) -> Iterable[Need]:
        yield Need(_SUSPECTS, params.suspects)
        if params.cures is not None:
            yield Need(_CURES, params.cures)

    def analyse(self, work: Work, params: PressureIn) -> Pressure:
        rate, at = params.sample_rate_hz, params.at
        untreated = work.open(params.untreated.audio_id)
        findings: Findings = work.result(Need(_SUSPECTS, params.suspects))
        faults: list[tuple[LedgerEntry | None, Evidence, float]] = []
        if params.cures is not None:
            cured: CuresOf = work.result(Need(_CURES, params.cures))
            for one in params.entries:
                assert one.evidence is not None
                cure = cured.cures[params.cures.number(one.evidence)]
                if cure is not None:
                    faults.append((one, one.evidence, cure.left_db))
        faults += [(None, evidence, evidence.excess_db) for evidence in _unanswered(findings, params)]
        listened = Untreated(untreated, offset_s=at / rate, sample_rate_hz=rate)
        when = [listened.moments_of(evidence) for _, evidence, _ in faults]
        passages = passages_for([one.frames for one in when], untreated.n_frames, sample_rate_hz=rate)
        off = passages.of(work.open(params.off.audio_id))
        on = _joined([_stretch(work, params.on.mix, first + at, last + at, rate) for first, last in passages.frames])
        louder_db = loudness_change_db(off, on, sample_rate_hz=rate)
        suspects = []
        for index, ((entry, evidence, excess_db), moments) in enumerate(zip(faults, when, strict=True)):
            heard = Moments(passages.within(moments.frames))
            back = back_db(off, on, evidence, heard, louder_db=louder_db, sample_rate_hz=rate)
            deeper = None
            if entry is not None and comes_back(back, excess_db) and _acts_later(params, entry):
                deeper = _held_down(work, params, entry, excess_db + back - LEFT_FROM_DB, moments, louder_db)
            suspects.append(
                Back(
                    entry_id=None if entry is None else entry.id, evidence=evidence, excess_db=excess_db, back_db=back,
                    deeper=deeper,
                )
            )  # fmt: skip
            work.report((index + 1) / len(faults))
        return Pressure(louder_db=louder_db, suspects=tuple(suspects))

    def show(self, session: RecordedSession, asked: OfStrip, params: PressureIn, result: Pressure) -> PressureView:
        dismissed = session.strip(asked.strip_id).dismissed
        rows = [
            _row(one, params)
            for one in result.suspects
            if one.entry_id is not None
            or (
                comes_back(one.back_db, one.excess_db)
                and not any(_near(one.evidence.hz, place.hz) for place in dismissed)
            )
        ]
        rows.sort(key=lambda row: (not row.comes_back, -row.back_db))
        return PressureView(strip_id=asked.strip_id, louder_db=result.louder_db, rows=rows)

    def foreseen(self, session: RecordedSession) -> Iterable[OfStrip]:
        return (OfStrip(strip_id=strip.id) for strip in session.strips()) if session.stands_in() else ()


_CURES, _SUSPECTS = Cures(), SuspectsOf()


def _near(hz: float, other_hz: float) -> bool:
    return bool(abs(1_200.0 * np.log2(hz / other_hz)) <= ANSWERED_CENTS)


def _unanswered(findings: Findings, params: PressureIn) -> list[Evidence]:
    """Return the suspects that no move answers, in seconds of the session."""
    offset_s = params.at / params.sample_rate_hz
    start_s, end_s = (
        frame / params.sample_rate_hz + offset_s for frame in (params.suspects.start, params.suspects.end)
    )
    answered = [entry.evidence.hz for entry in params.entries if entry.evidence is not None]
    return [
        Evidence(
            kind=one.kind, hz=one.hz, q=one.q, excess_db=one.excess_db, ring_s=one.ring_s, start_s=start_s, end_s=end_s,
            times=tuple((a + offset_s, b + offset_s) for a, b in one.times), behaviour=one.behaviour,
        )
        for one in findings.suspects
        if one.confidence >= LEAST_ODDS and not any(_near(one.hz, hz) for hz in answered)
    ]  # fmt: skip


def _held_down(
    work: Work, params: PressureIn, entry: LedgerEntry, more_db: float, moments: Moments, louder_db: float
) -> Move | None:
    """Return the move with the least extra depth that holds its suspect down, tried where it is there most; None where
    its kind has no depth."""
    evidence, rate = entry.evidence, params.sample_rate_hz
    assert evidence is not None
    start, end = _most_of_it(moments.frames + params.at, params.at, params.on.n_frames, rate)
    moments = Moments(np.clip(moments.frames + params.at, start, end) - start)
    n_frames = end - start
    untreated = ArraySource(work.open(params.untreated.audio_id).read(start - params.at, n_frames))
    move: Move | None = entry.move
    for _ in range(TURNS):
        move = deepened(entry.move, more_db + MARGIN_DB)
        if move is None or move == entry.move:
            return move
        pressed = _with(params.on.mix, entry.id, move)
        mixes = (_without_stand_ins(pressed, params), pressed)
        off, on = (_stretch(work, mix, start, end, rate) for mix in mixes)
        cure = measure_again(
            BeforeAndAfter(untreated, off, sample_rate_hz=rate),
            kind=evidence.kind, hz=evidence.hz, q=evidence.q, behaviour=evidence.behaviour,
            times=tuple((a - start / rate, b - start / rate) for a, b in evidence.times), start=0, end=n_frames,
        )  # fmt: skip
        back = back_db(off, on, evidence, moments, louder_db=louder_db, sample_rate_hz=rate)
        if not comes_back(back, cure.left_db):
            return move
        more_db += max(min(cure.left_db + back - LEFT_FROM_DB, 6.0), 0.5)
    return move


def _most_of_it(spans: np.ndarray, first: int, last: int, rate: int) -> tuple[int, int]:
    """Return the seconds, from the first to the last frame, in which most of some spans (n, 2) lies."""
    longest = round(TRIED_S * rate)
    if last - first <= longest or not len(spans):
        return first, min(last, first + longest)
    starts = np.clip(spans[:, 0] - round(LEAD_S * rate), first, last - longest)
    inside = [np.sum(np.diff(np.clip(spans, start, start + longest), axis=1)) for start in starts]
    start = int(starts[np.argmax(inside)])
    return start, start + longest


def _stretch(work: Work, mix: Mix, start: int, end: int, rate: int) -> ArraySource:
    blocks = render_mix(mix, work.open, start=start, end=end, sample_rate_hz=rate)
    return _joined([ArraySource(block) for block in blocks])


def _joined(parts: Sequence[ArraySource]) -> ArraySource:
    return ArraySource(np.concatenate([one.samples for one in parts], axis=1))


def _acts_later(params: PressureIn, entry: LedgerEntry) -> bool:
    """Tell whether a move acts on what is heard under pressure; what came back with the cuts in it is as it is."""
    return any(one.id == entry.id for one in params.on.mix.tracks[0].ledger)


def _with(mix: Mix, entry_id: str, move: Move) -> Mix:
    """Return a mix whose first track has a move in place of another."""
    own = mix.tracks[0]
    ledger = tuple(
        entry.model_copy(update={"move": move}) if entry.id == entry_id else entry for entry in own.ledger
    )  # fmt: skip
    return mix.model_copy(update={"tracks": (own.model_copy(update={"ledger": ledger}), *mix.tracks[1:])})


def _without_stand_ins(mix: Mix, params: PressureIn) -> Mix:
    own = mix.tracks[0]
    plain = {"ledger": own.lasting_ledger, "sends": (), "audio_id": params.untreated.audio_id, "start_frame": params.at}
    return mix.model_copy(update={"tracks": (own.model_copy(update=plain), *mix.tracks[1:])})


def _row(one: Back, params: PressureIn) -> PressureRow:
    evidence, back = one.evidence, comes_back(one.back_db, one.excess_db)
    before = next((entry.move for entry in params.entries if entry.id == one.entry_id), None)
    by_db = None
    if one.deeper is not None and before is not None:
        name = meanings_of(type(before))["gain"]
        by_db = round(getattr(before, name) - getattr(one.deeper, name), 1)
    what = f"{evidence.kind} at {evidence.hz:.0f} Hz"
    if one.entry_id is None:
        sentence = f"{what}, which nobody cut, comes up by {one.back_db:.1f} dB"
    elif back:
        sentence = f"{what} comes back by {one.back_db:.1f} dB"
    else:
        sentence = f"{what} stays cured" if one.excess_db < LEFT_FROM_DB else f"{what} comes back no more than the rest"
    return PressureRow(
        entry_id=one.entry_id, hz=evidence.hz, q=evidence.q, sentence=sentence, excess_db=one.excess_db,
        back_db=one.back_db, comes_back=back, deeper=one.deeper, deeper_by_db=by_db,
        start_s=evidence.start_s, end_s=evidence.end_s,
    )  # fmt: skip
