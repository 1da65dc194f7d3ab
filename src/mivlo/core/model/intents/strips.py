"""Intents on tracks and groups: their faders and names, who is whose twin or member, the user's marks."""

from typing import TYPE_CHECKING, Literal

from pydantic import Field

from mivlo.core.errors import ConflictError, ParameterError
from mivlo.core.model.base import Frozen, Name, partial_of
from mivlo.core.model.intents.base import Intent, refuse_changed
from mivlo.core.model.intents.ledgers import set_fields
from mivlo.core.model.ledger import Keeper
from mivlo.core.model.marks import Pin, Remark
from mivlo.core.model.session import Session
from mivlo.core.model.strips import SHARED_BY_TWINS, Group, Send, SendLevel, StripBase, Track

__all__ = [
    "AddGroup",
    "AddKeeper",
    "AddPin",
    "AddRemark",
    "PairTracks",
    "RemoveGroup",
    "RemoveKeeper",
    "RemovePin",
    "RemoveRemark",
    "RemoveTrack",
    "SetGroup",
    "SetSend",
    "SetTrack",
    "UnpairTrack",
]

_BY_OTHER_INTENTS = {
    "kind",
    "id",
    "ledger",
    "ledger_on",
    "phase",
    "amount",
    "keepers",
    "pins",
    "dismissed",
    "remarks",
    "sends",
}

if TYPE_CHECKING:

    class TrackFields(Frozen):
        """Fields of a track."""

    class GroupFields(Frozen):
        """Fields of a group."""

else:
    TrackFields = partial_of(Track, "TrackFields", without=_BY_OTHER_INTENTS | {"audio_id", "twin_id", "later"})
    GroupFields = partial_of(Group, "GroupFields", without=_BY_OTHER_INTENTS)


class SetTrack(Intent):
    """Set some fields of a track; `seen` has them as they were when that was decided."""

    do: Literal["set-track"] = "set-track"
    track_id: str = Field(max_length=64)
    fields: TrackFields
    seen: TrackFields

    def apply(self, session: Session) -> Session:
        """Return the session with the track set. Raises as `Intent.apply`. Source: ours."""
        session.track(self.track_id)
        if (start_frame := getattr(self.fields, "start_frame", None)) is not None and start_frame < 0:
            raise ParameterError(f"start_frame={start_frame} must be 0 or more: a track starts within its session")
        if (target_id := getattr(self.fields, "group_id", None)) is not None:
            _check_target(session, self.track_id, target_id)
        return set_fields(session, self.track_id, self.fields, self.seen)


class SetGroup(Intent):
    """Set some fields of a group or of the mix; `seen` has them as they were when that was decided."""

    do: Literal["set-group"] = "set-group"
    group_id: str = Field(max_length=64)
    fields: GroupFields
    seen: GroupFields

    def apply(self, session: Session) -> Session:
        """Return the session with the group set. Raises as `Intent.apply`. Source: ours."""
        session.group(self.group_id)
        if (target_id := getattr(self.fields, "group_id", None)) is not None:
            _check_target(session, self.group_id, target_id)
        return _with_routes(set_fields(session, self.group_id, self.fields, self.seen))


class SetSend(Intent):
    """Send a track or group into a group at a level, or no longer; `seen_db` is the level as it was when that was
    decided, null for none."""

    do: Literal["set-send"] = "set-send"
    strip_id: str = Field(max_length=64)
    to_id: str = Field(max_length=64)
    level_db: SendLevel | None = Field(...)
    seen_db: SendLevel | None = Field(...)

    def apply(self, session: Session) -> Session:
        """Return the session with the send. Raises as `Intent.apply`. Source: ours."""
        if session.strip(self.strip_id) is session.master:
            raise ParameterError("the mix is the outermost group: it has no sends")
        if self.level_db is not None:
            _check_target(session, self.strip_id, self.to_id)

        def changed(strip: StripBase) -> dict[str, object]:
            levels: dict[str, float | None] = {send.to_id: send.level_db for send in strip.sends}
            label = f"a send of {strip.name}"
            refuse_changed(label, now=levels.get(self.to_id), seen=self.seen_db, wanted=self.level_db)
            levels[self.to_id] = self.level_db
            return {"sends": tuple(Send(to_id=to, level_db=db) for to, db in levels.items() if db is not None)}

        return _with_routes(session.with_strip(self.strip_id, changed))


def _check_target(session: Session, strip_id: str, target_id: str) -> None:
    """Raise NotFoundError or ParameterError where sound is to go where it cannot."""
    target = session.group(target_id)
    if target is session.master:
        raise ParameterError("what is in no group is in the mix by itself: leave group_id empty, and send to groups")
    if target_id == strip_id:
        raise ParameterError(f"“{target.name}” cannot go into itself")


def _with_routes(session: Session) -> Session:
    """Return a session whose sound goes round in no circle; raises ParameterError."""
    session.check_routes()
    return session


class RemoveTrack(Intent):
    """Take a track out of the session; undo brings it back."""

    do: Literal["remove-track"] = "remove-track"
    track_id: str = Field(max_length=64)

    def apply(self, session: Session) -> Session:
        """Return the session without the track. Raises as `Intent.apply`. Source: ours."""
        gone = session.track(self.track_id)
        return session.changed(tracks=tuple(track for track in session.tracks if track is not gone))


class AddGroup(Intent):
    """Make a group; tracks join it by their own field."""

    do: Literal["add-group"] = "add-group"
    group_id: str = Field(pattern="^[0-9a-f]{32}$")
    name: Name = Field(min_length=1, max_length=120)

    def apply(self, session: Session) -> Session:
        """Return the session with the group. Raises as `Intent.apply`. Source: ours."""
        if any(strip.id == self.group_id for strip in session.strips()):
            raise ConflictError(f"the id {self.group_id} is in use already")
        return session.changed(groups=(*session.groups, Group(id=self.group_id, name=self.name)))


class RemoveGroup(Intent):
    """Dissolve a group: what is in it goes where the group went, sends to it are gone; undo brings it back."""

    do: Literal["remove-group"] = "remove-group"
    group_id: str = Field(max_length=64)

    def apply(self, session: Session) -> Session:
        """Return the session without the group. Raises as `Intent.apply`. Source: ours."""
        gone = session.group(self.group_id)
        if gone is session.master:
            raise ParameterError("the mix is not a group that can be dissolved")
        for strip in (*session.tracks, *session.groups):
            if strip.group_id == gone.id:
                session = session.with_strip(strip.id, lambda _: {"group_id": gone.group_id})
            if any(send.to_id == gone.id for send in strip.sends):
                session = session.with_strip(
                    strip.id, lambda one: {"sends": tuple(send for send in one.sends if send.to_id != gone.id)}
                )
        return session.changed(groups=tuple(group for group in session.groups if group.id != gone.id))


class PairTracks(Intent):
    """Make a track the twin of another: from now on both share the other one's ledger."""

    do: Literal["pair-tracks"] = "pair-tracks"
    track_id: str = Field(max_length=64)
    with_id: str = Field(max_length=64)
    twin_id: str = Field(pattern="^[0-9a-f]{32}$")

    def apply(self, session: Session) -> Session:
        """Return the session with the twins. Raises as `Intent.apply`. Source: ours."""
        track, other = session.track(self.track_id), session.track(self.with_id)
        if track is other:
            raise ParameterError("a track cannot be its own twin: choose another one")
        twin_id = other.twin_id or self.twin_id
        session = session.with_strip(other.id, lambda _: {"twin_id": twin_id})
        taken = {name: getattr(other, name) for name in SHARED_BY_TWINS}
        return session.with_strip(track.id, lambda _: {"twin_id": twin_id, **taken})


class UnpairTrack(Intent):
    """Let a track go its own way, with the ledger that it has shared."""

    do: Literal["unpair-track"] = "unpair-track"
    track_id: str = Field(max_length=64)

    def apply(self, session: Session) -> Session:
        """Return the session with the track alone. Raises as `Intent.apply`. Source: ours."""
        return session.with_strip(session.track(self.track_id).id, lambda _: {"twin_id": None})


class _OnStrip(Intent):
    strip_id: str = Field(max_length=64)


class AddPin(_OnStrip):
    """Mark a place."""

    do: Literal["add-pin"] = "add-pin"
    pin: Pin

    def apply(self, session: Session) -> Session:
        """Return the session with the pin. Raises as `Intent.apply`. Source: ours."""
        return session.with_strip(self.strip_id, lambda strip: {"pins": (*strip.pins, self.pin)})


class RemovePin(_OnStrip):
    """Take a mark away; one that is gone already stays gone."""

    do: Literal["remove-pin"] = "remove-pin"
    pin_id: str = Field(max_length=64)

    def apply(self, session: Session) -> Session:
        """Return the session without the pin. Raises as `Intent.apply`. Source: ours."""
        return session.with_strip(
            self.strip_id, lambda strip: {"pins": tuple(pin for pin in strip.pins if pin.id != self.pin_id)}
        )


class AddRemark(_OnStrip):
    """Say something at a time of a track."""

    do: Literal["add-remark"] = "add-remark"
    remark: Remark

    def apply(self, session: Session) -> Session:
        """Return the session with the remark. Raises as `Intent.apply`. Source: ours."""
        return session.with_strip(self.strip_id, lambda strip: {"remarks": _in_time(*strip.remarks, self.remark)})


class RemoveRemark(_OnStrip):
    """Take a remark away; one that is gone already stays gone."""

    do: Literal["remove-remark"] = "remove-remark"
    remark_id: str = Field(max_length=64)

    def apply(self, session: Session) -> Session:
        """Return the session without the remark. Raises as `Intent.apply`. Source: ours."""
        return session.with_strip(
            self.strip_id, lambda strip: {"remarks": tuple(one for one in strip.remarks if one.id != self.remark_id)}
        )


def _in_time(*remarks: Remark) -> tuple[Remark, ...]:
    return tuple(sorted(remarks, key=lambda one: one.at_s))


class AddKeeper(_OnStrip):
    """Say that a region is needed."""

    do: Literal["add-keeper"] = "add-keeper"
    keeper: Keeper

    def apply(self, session: Session) -> Session:
        """Return the session with the keeper. Raises as `Intent.apply`. Source: ours."""
        return session.with_strip(self.strip_id, lambda strip: {"keepers": (*strip.keepers, self.keeper)})


class RemoveKeeper(_OnStrip):
    """No longer keep a region; one that is gone already stays gone."""

    do: Literal["remove-keeper"] = "remove-keeper"
    keeper: Keeper

    def apply(self, session: Session) -> Session:
        """Return the session without the keeper. Raises as `Intent.apply`. Source: ours."""

        def without(keepers: tuple[Keeper, ...]) -> tuple[Keeper, ...]:
            at = keepers.index(self.keeper) if self.keeper in keepers else len(keepers)
            return keepers[:at] + keepers[at + 1 :]

        return session.with_strip(self.strip_id, lambda strip: {"keepers": without(strip.keepers)})
