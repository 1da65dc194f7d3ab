"""How somebody listens to a session, and the mix that is heard by it: the one place where that is decided.

A listening says what is chosen and held just now, and no more than the few figures that are under a pointer; ledgers,
faders and the measured level match come from the session.
"""

from collections.abc import Callable
from typing import Annotated, Any, Literal, TypeVar

from pydantic import Field

from mivlo.core.engine.audible import audible_tracks
from mivlo.core.engine.mix import GuardReference, Mix, Probe, Sides, Slice, mix_of_session
from mivlo.core.engine.through import ListenThrough
from mivlo.core.errors import NotFoundError
from mivlo.core.level_match import LevelMatch
from mivlo.core.model import Frozen, Group, LedgerEntry, Session, StripBase, Treatment, keys_of
from mivlo.core.moves import Move
from mivlo.core.spectra.smoothing import Smoothing

__all__ = [
    "Blind", "Compared", "Listening", "MatchQuestion", "Preview", "Together", "heard_mix", "ledgers_switched",
    "match_question", "sides_compared",
]  # fmt: skip

_Frame = Annotated[int, Field(ge=0, le=2**40)]
Shown = TypeVar("Shown", bound=StripBase)
_Change = Callable[[Any], Any]  # of a track into a track, of a group into a group
_MoveChange = Callable[[Any], Any]


class Preview(Frozen):
    """What is being dragged just now, in place of what is saved: a move's figures, or the amount of a strip."""

    strip_id: str = Field(max_length=64)
    entry_id: str | None = Field(default=None, max_length=64)
    move: Move | None = None
    amount: float | None = Field(default=None, ge=0.0, le=150.0)
    treatment: Treatment = "A"


class Together(Frozen):
    """Listening to tracks side by side; what is compared is one move, all moves, or nothing."""

    heard_ids: tuple[str, ...] = Field(default=(), max_length=50)  # only these tracks and groups; none: all
    compares: Literal["nothing", "one-move", "all-moves"] = "nothing"
    entry_id: str | None = Field(default=None, max_length=64)
    without: bool = False  # what is compared is left out just now


class Compared(Frozen):
    """Two ways to treat the session, both rendered all the while; with which is compared, and which is heard just now.

    What is listened to as it is stands on one side; on the other another treatment, or the same without some moves:
    all of them, those of the strip that is listened to, one of its moves, or all that stands for what comes later; or
    a reference, whole, whatever is listened to.
    """

    what: Literal["treatments", "all-moves", "strip", "one-move", "stand-ins", "reference"]
    other: Treatment | None = None
    reference_id: str | None = Field(default=None, max_length=64)
    entry_id: str | None = Field(default=None, max_length=64)
    amount: float = Field(default=100.0, ge=0.0, le=150.0)  # per cent, of the one move
    other_heard: bool = False


class Blind(Frozen):
    """What is pressed in a blind check, in its next trial: only whoever renders looks up what that is."""

    check_id: str = Field(max_length=64)
    trial: int = Field(ge=0, le=100)
    press: Literal["A", "X", "B"]


class Listening(Frozen):
    """How a page listens: to a strip on the bench, or, with `together`, to several side by side."""

    treatment: Treatment = "A"
    strip_id: str | None = Field(default=None, max_length=64)
    alone: bool = True
    moves_heard: bool = True  # before or after the ledger of the strip
    matched: bool = True
    dim: bool = False
    through: ListenThrough = ListenThrough()
    offcuts: bool = False
    slice_entry_id: str | None = Field(default=None, max_length=64)
    probe: Probe | None = None
    held_probes: tuple[Probe, ...] = Field(default=(), max_length=8)
    pipe_hz: float | None = Field(default=None, ge=20.0, le=20_000.0)
    together: Together | None = None
    compared: Compared | None = None
    blind: Blind | None = None
    pressure: bool = False  # with all that stands for what somebody does later
    preview: Preview | None = None
    loop: tuple[_Frame, _Frame] | None = None  # frames that are gone round in place of the session's loop
    draft_id: str | None = Field(default=None, max_length=64)  # what was drafted is heard as if it were taken
    smoothing: Smoothing = "none"  # of the live spectrum


class MatchQuestion(Frozen):
    """Ways of listening that are to be equally loud, and where: frames of the session."""

    without: Mix
    within: Mix
    others: tuple[Mix, ...] = ()
    start: int
    end: int


def heard_mix(session: Session, listening: Listening, match: LevelMatch | None) -> Mix:
    """Return the mix that is heard.

    Parameters
    ----------
    session : with what is drafted, where that is heard
    match : as measured for `match_question`; None where nothing was measured (yet)

    Raises
    ------
    Nothing: who is not there any more is not heard.

    Source: ours
    """
    session = _treated(session, listening.treatment)
    if listening.compared is None:
        mix = mix_of_session(session, stand_ins="acting" if listening.pressure else "resting")
        mix = _switched_strips(mix, lambda one: _as_heard(_previewed(one, session, listening), listening))
    else:
        mix, other = sides_compared(session, listening)
        by_db = match if match is not None and listening.matched else None
        sides = Sides(
            # Of a reference, nothing could be alone that has the id of a strip: it is heard whole.
            other=other.model_copy(update={"alone_track_id": _alone_id(session, listening)}),
            other_heard=listening.compared.other_heard,
            this_db=by_db.match_after_db if by_db else 0.0,
            other_db=by_db.match_before_db if by_db else 0.0,
        )
        mix = mix.model_copy(update={"sides": sides})
    loop_start, loop_end = listening.loop or (session.loop_start_frame, session.loop_end_frame)
    common = {
        "dim": listening.dim,
        "through": listening.through,
        "loop_start_frame": loop_start,
        "loop_end_frame": loop_end,
        "match_db": _match_db(listening, match),
        "held_probes": _known(listening.held_probes, session),
    }
    if listening.together is not None:
        return mix.model_copy(update=common | {"heard_ids": listening.together.heard_ids})
    strip_id = _strip_id(session, listening)
    entry_id = listening.slice_entry_id
    return mix.model_copy(
        update=common
        | {
            "alone_track_id": _alone_id(session, listening),
            "offcuts_track_id": strip_id if listening.offcuts else None,
            "slice": Slice(track_id=strip_id, entry_id=entry_id) if entry_id and strip_id else None,
            "probe": next(iter(_known((listening.probe,) if listening.probe else (), session)), None),
            "pipe_hz": listening.pipe_hz,
            "guard": _guard(listening, match),
        }
    )


def _treated(session: Session, letter: Treatment) -> Session:
    try:
        return session.as_treated(letter)
    except NotFoundError:  # taken out meanwhile
        return session


def _strip_id(session: Session, listening: Listening) -> str | None:
    return listening.strip_id if any(one.id == listening.strip_id for one in session.strips()) else None


def _alone_id(session: Session, listening: Listening) -> str | None:
    return _strip_id(session, listening) if listening.alone else None


def sides_compared(session: Session, listening: Listening) -> tuple[Mix, Mix]:
    """Return what is compared: the mix as it is listened to, and the other one; as if nothing was listened to alone.

    Raises
    ------
    Nothing: of what is not there any more, both sides are alike.

    Source: ours
    """
    compared = listening.compared
    assert compared is not None
    session = _treated(session, listening.treatment)
    stands_in = listening.pressure or compared.what == "stand-ins"
    this = mix_of_session(session, stand_ins="acting" if stands_in else "resting")
    this = _switched_strips(this, lambda one: _previewed(one, session, listening))
    if compared.what == "treatments":
        beside = _treated(session, compared.other or session.treatment)
        other = mix_of_session(beside, stand_ins="acting" if stands_in else "resting")
        return this, _switched_strips(other, lambda one: _previewed(one, beside, listening))
    if compared.what == "reference":
        return _switched_strips(this, lambda one: _as_heard(one, listening)), _reference_mix(session, compared)
    if compared.what == "stand-ins":
        return this, mix_of_session(session, stand_ins="resting")
    if compared.what == "one-move":
        amount = compared.amount / 100.0
        if amount != 1.0:
            this = _switched_strips(
                this, lambda one: _with_moves(one, compared.entry_id, lambda move: move.at_amount(amount))
            )
        return this, _switched_strips(this, lambda one: _without_entry(one, compared.entry_id))
    only = listening.strip_id if compared.what == "strip" else None

    def untreated(one: Shown) -> Shown:
        return one.model_copy(update={"ledger_on": one.ledger_on and only not in (one.id, None)})

    return this, _switched_strips(this, untreated)


def _reference_mix(session: Session, compared: Compared) -> Mix:
    """Return a reference as it came, straight into the mix's place; nothing, where it is not there any more."""
    found = tuple(one.as_track for one in session.references if one.id == compared.reference_id)
    return Mix(tracks=tuple(one.heard_part() for one in found), master=Group(id=session.master.id))


def match_question(session: Session, listening: Listening, *, end_frame: int) -> MatchQuestion | None:
    """Return what must be measured for the level match and the probe's guard; None where nothing is compared.

    Raises
    ------
    Nothing.

    Source: ours
    """
    session = _treated(session, listening.treatment)
    mix = mix_of_session(session, stand_ins="acting" if listening.pressure else "left-out")
    start, loop_end = listening.loop or (session.loop_start_frame or 0, session.loop_end_frame or end_frame)
    end = min(loop_end, end_frame)
    if end <= start:
        return None
    together = listening.together
    others: tuple[Mix, ...] = ()
    if listening.compared is not None:
        alone = {"alone_track_id": _alone_id(session, listening)}
        within, without = (one.model_copy(update=alone) for one in sides_compared(session, listening))
        pair = (ledgers_switched(one, one.master.id, on=one.master.ledger_on) for one in (without, within))
    elif together is None:
        if listening.strip_id is None:
            return None
        mix = mix.model_copy(update={"alone_track_id": listening.strip_id if listening.alone else None})
        pair = (ledgers_switched(mix, listening.strip_id, on=on) for on in (False, True))
        others = _pressed_otherwise(session, listening)
    elif together.compares == "all-moves":
        pair = (ledgers_switched(mix, None, on=on) for on in (False, True))
    elif together.compares == "one-move" and together.entry_id is not None:
        mix = mix.model_copy(update={"heard_ids": together.heard_ids})
        without = _switched_strips(mix, lambda one: _without_entry(one, together.entry_id))
        pair = (ledgers_switched(one, one.master.id, on=one.master.ledger_on) for one in (without, mix))
    else:
        return None
    before, after = pair
    return MatchQuestion(without=before, within=after, others=others, start=start, end=end)


def _pressed_otherwise(session: Session, listening: Listening) -> tuple[Mix, ...]:
    """Return what is heard after the switch of the pressure test, which is to be as loud as what is heard now."""
    if not session.stands_in():
        return ()
    mix = mix_of_session(session, stand_ins="left-out" if listening.pressure else "acting")
    mix = mix.model_copy(update={"alone_track_id": listening.strip_id if listening.alone else None})
    return tuple(ledgers_switched(mix, listening.strip_id, on=on) for on in (False, True))


def ledgers_switched(mix: Mix, strip_id: str | None, *, on: bool) -> Mix:
    """Return the mix with one ledger (None: all) on or off, without what is not heard anyway: equal sound is measured
    once.

    Raises
    ------
    Nothing.

    Source: ours
    """
    heard = audible_tracks(mix)
    strips = (*mix.tracks, *mix.groups, mix.master)
    # What is not heard stays for those who listen to it, but without its own moves.
    listened_to = any(keys_of(one.ledger) for one in strips)

    def switched(one: Shown) -> Shown:
        wanted = on if strip_id in (one.id, None) else one.ledger_on
        later = tuple(entry for entry in one.ledger if entry.move.stand_in)  # is done to what is not treated, too
        return one.model_copy(update={"ledger": one.ledger if wanted else later, "ledger_on": True})

    tracks = [switched(t) if heard[t.id] else t.model_copy(update={"ledger": ()}) for t in mix.tracks]
    kept = tuple(track for track in tracks if heard[track.id] or listened_to)
    groups = tuple(switched(group) for group in mix.groups)
    return mix.model_copy(update={"tracks": kept, "groups": groups, "master": switched(mix.master)})


def _switched_strips(mix: Mix, change: _Change) -> Mix:
    return mix.model_copy(
        update={
            "tracks": tuple(map(change, mix.tracks)),
            "groups": tuple(map(change, mix.groups)),
            "master": change(mix.master),
        }
    )


def _as_heard(one: Shown, listening: Listening) -> Shown:
    together = listening.together
    if together is None:
        on = one.ledger_on and (one.id != listening.strip_id or listening.moves_heard)
        return one if on == one.ledger_on else one.model_copy(update={"ledger_on": on})
    if not together.without:
        return one
    if together.compares == "all-moves":
        return one.model_copy(update={"ledger_on": False})
    return _without_entry(one, together.entry_id) if together.compares == "one-move" else one


def _without_entry(one: Shown, entry_id: str | None) -> Shown:
    return _with_moves(one, entry_id, lambda move: move.model_copy(update={"on": False}))


def _previewed(one: Shown, session: Session, listening: Listening) -> Shown:
    preview = listening.preview
    if preview is None or preview.treatment != session.treatment:
        return one
    if preview.strip_id != one.id and not _are_twins(session, preview.strip_id, one.id):
        return one
    if preview.amount is not None:
        one = one.model_copy(update={"amount": preview.amount})
    return one if preview.move is None else _with_moves(one, preview.entry_id, lambda _: preview.move)


def _are_twins(session: Session, one: str, other: str) -> bool:
    twins = {track.id: track.twin_id for track in session.tracks}
    return twins.get(one) is not None and twins.get(one) == twins.get(other)


def _with_moves(one: Shown, entry_id: str | None, change: _MoveChange) -> Shown:
    def changed(entry: LedgerEntry) -> LedgerEntry:
        return entry.model_copy(update={"move": change(entry.move)}) if entry.id == entry_id else entry

    if not any(entry.id == entry_id for entry in one.ledger):
        return one
    return one.model_copy(update={"ledger": tuple(map(changed, one.ledger))})


def _known(probes: tuple[Probe, ...], session: Session) -> tuple[Probe, ...]:
    ids = {strip.id for strip in session.strips()}
    return tuple(probe for probe in probes if probe.track_id in ids)


def _match_db(listening: Listening, match: LevelMatch | None) -> float:
    """Return the level match as it is heard: what is heard of a sound for its own sake is not turned down."""
    together = listening.together
    for_itself = listening.held_probes if together else listening.offcuts or listening.slice_entry_id
    if listening.compared is not None:  # each side is matched where it goes out
        return 0.0
    return 0.0 if for_itself else _compared_match_db(listening, match)


def _compared_match_db(listening: Listening, match: LevelMatch | None) -> float:
    if match is None or not listening.matched:
        return 0.0
    return match.match_after_db if _is_after(listening) else match.match_before_db


def _is_after(listening: Listening) -> bool:
    """Tell which of what is compared is heard: the one with what is compared, or as it is."""
    if listening.compared is not None:
        return not listening.compared.other_heard
    return not listening.together.without if listening.together else listening.moves_heard


def _guard(listening: Listening, match: LevelMatch | None) -> GuardReference:
    """Return what the probe's guard goes by: what is heard without the probe, after the level match."""
    if match is None:
        return GuardReference()
    figures = match.after if _is_after(listening) else match.before
    lowered_db = _compared_match_db(listening, match)

    def lowered(level_db: float | None) -> float | None:
        return None if level_db is None else level_db + lowered_db

    return GuardReference(loudness_lufs=lowered(figures.loudness_lufs), true_peak_db=lowered(figures.true_peak_db))
