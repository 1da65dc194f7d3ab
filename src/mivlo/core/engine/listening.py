"""How somebody listens to a session, and the mix that is heard by it: the one place where that is decided.

A listening says what is chosen and held just now, and no more than the few figures that are under a pointer; ledgers,
faders and the measured level match come from the session.
"""

from collections.abc import Callable
from typing import Annotated, Any, Literal, TypeVar

from pydantic import Field

from mivlo.core.engine.audible import audible_tracks
from mivlo.core.engine.mix import GuardReference, Mix, Probe, Slice, mix_of_session
from mivlo.core.engine.through import ListenThrough
from mivlo.core.level_match import LevelMatch
from mivlo.core.model import Frozen, LedgerEntry, Session, StripBase, keys_of
from mivlo.core.moves import Move

__all__ = ["Listening", "MatchQuestion", "Preview", "Together", "heard_mix", "ledgers_switched", "match_question"]

_Frame = Annotated[int, Field(ge=0, le=2**40)]
Shown = TypeVar("Shown", bound=StripBase)
_Change = Callable[[Any], Any]  # of a track into a track, of a group into a group
_MoveChange = Callable[[Any], Any]


class Preview(Frozen):
    """A move as it is being dragged: its figures just now, in place of those that are saved."""

    strip_id: str = Field(max_length=64)
    entry_id: str = Field(max_length=64)
    move: Move


class Together(Frozen):
    """Listening to tracks side by side; what is compared is one move, all moves, or nothing."""

    heard_ids: tuple[str, ...] = Field(default=(), max_length=50)  # only these tracks and groups; none: all
    compares: Literal["nothing", "one-move", "all-moves"] = "nothing"
    entry_id: str | None = Field(default=None, max_length=64)
    without: bool = False  # what is compared is left out just now


class Listening(Frozen):
    """How a page listens: to a strip on the bench, or, with `together`, to several side by side."""

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
    pressure: bool = False  # with all that stands for what somebody does later
    preview: Preview | None = None
    loop: tuple[_Frame, _Frame] | None = None  # frames that are gone round in place of the session's loop
    draft_id: str | None = Field(default=None, max_length=64)  # what was drafted is heard as if it were taken


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
    mix = mix_of_session(session, stand_ins="acting" if listening.pressure else "resting")
    mix = _switched_strips(mix, lambda one: _as_heard(_previewed(one, session, listening), listening))
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
    strip_id = listening.strip_id if any(one.id == listening.strip_id for one in session.strips()) else None
    entry_id = listening.slice_entry_id
    return mix.model_copy(
        update=common
        | {
            "alone_track_id": strip_id if listening.alone else None,
            "offcuts_track_id": strip_id if listening.offcuts else None,
            "slice": Slice(track_id=strip_id, entry_id=entry_id) if entry_id and strip_id else None,
            "probe": next(iter(_known((listening.probe,) if listening.probe else (), session)), None),
            "pipe_hz": listening.pipe_hz,
            "guard": _guard(listening, match),
        }
    )


def match_question(session: Session, listening: Listening, *, end_frame: int) -> MatchQuestion | None:
    """Return what must be measured for the level match and the probe's guard; None where nothing is compared.

    Raises
    ------
    Nothing.

    Source: ours
    """
    mix = mix_of_session(session, stand_ins="acting" if listening.pressure else "left-out")
    start, loop_end = listening.loop or (session.loop_start_frame or 0, session.loop_end_frame or end_frame)
    end = min(loop_end, end_frame)
    if end <= start:
        return None
    together = listening.together
    others: tuple[Mix, ...] = ()
    if together is None:
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
    if preview is None or (preview.strip_id != one.id and not _are_twins(session, preview.strip_id, one.id)):
        return one
    return _with_moves(one, preview.entry_id, lambda _: preview.move)


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
    return 0.0 if for_itself else _compared_match_db(listening, match)


def _compared_match_db(listening: Listening, match: LevelMatch | None) -> float:
    if match is None or not listening.matched:
        return 0.0
    together = listening.together
    is_within = not together.without if together else listening.moves_heard
    return match.match_after_db if is_within else match.match_before_db


def _guard(listening: Listening, match: LevelMatch | None) -> GuardReference:
    """Return what the probe's guard goes by: what is heard without the probe, after the level match."""
    if match is None:
        return GuardReference()
    figures = match.after if listening.moves_heard else match.before
    lowered_db = _compared_match_db(listening, match)

    def lowered(level_db: float | None) -> float | None:
        return None if level_db is None else level_db + lowered_db

    return GuardReference(loudness_lufs=lowered(figures.loudness_lufs), true_peak_db=lowered(figures.true_peak_db))
