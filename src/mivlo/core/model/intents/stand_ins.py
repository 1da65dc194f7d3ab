"""Intents on what stands for what somebody does later."""

import hashlib
from functools import partial
from typing import Literal

from pydantic import Field

from mivlo.core.errors import ConflictError, ParameterError
from mivlo.core.model.intents.base import Intent, OnTreatment
from mivlo.core.model.session import Session
from mivlo.core.model.strips import LaterVersion, Send, StripBase
from mivlo.core.stand_ins import entries_for, room_group, send_db_for

__all__ = ["CameBack", "DraftStandIns", "RemoveStandIns"]


class DraftStandIns(OnTreatment):
    """Give every track that has none the stand-ins of its role, and send it to one room."""

    do: Literal["draft-stand-ins"] = "draft-stand-ins"
    group_id: str = Field(pattern="^[0-9a-f]{32}$")  # of the room, where there is none yet

    def applied(self, session: Session) -> Session:
        """Return the session with its stand-ins. Raises as `Intent.apply`. Source: common practice by role."""
        room = next((group for group in session.groups if group.stand_in), None)
        if room is None:
            if any(strip.id == self.group_id for strip in session.strips()):
                raise ConflictError(f"the id {self.group_id} is in use already")
            room = room_group(self.group_id, self._new_id)
            session = session.changed(groups=(*session.groups, room))
        for track in session.tracks:
            now = session.track(track.id)  # a twin may have got them already
            if any(entry.move.stand_in for entry in now.ledger):
                continue
            ledger = (*now.ledger, *entries_for(now, self._new_id))
            session = session.with_strip(now.id, partial(_fields, ledger=ledger))
        for track in session.tracks:
            level_db = send_db_for(track)
            if level_db is not None and all(send.to_id != room.id for send in track.sends):
                sends = (*track.sends, Send(to_id=room.id, level_db=level_db))
                session = session.with_strip(track.id, partial(_fields, sends=sends))
        return session

    def _new_id(self, name: str) -> str:
        return hashlib.blake2b(f"{self.group_id} {name}".encode(), digest_size=16).hexdigest()


def _fields(_: StripBase, **fields: object) -> dict[str, object]:
    return fields


class CameBack(Intent):
    """Let a track be what another one is after what was done to it later: it stands in for that, and is no track of its
    own any more."""

    do: Literal["came-back"] = "came-back"
    track_id: str = Field(max_length=64)
    back_id: str = Field(max_length=64)  # the track that came back
    start_frame: int = Field(ge=-(2**40), le=2**40)
    louder_db: float = Field(ge=-200.0, le=200.0)
    holds_cuts: bool

    def apply(self, session: Session) -> Session:
        """Return the session with it. Raises as `Intent.apply`. Source: ours."""
        track, back = session.track(self.track_id), session.track(self.back_id)
        if track is back:
            raise ParameterError("a track cannot be what came back of itself: choose the track that it was made of")
        later = LaterVersion(
            audio_id=back.audio_id, start_frame=self.start_frame, louder_db=self.louder_db, holds_cuts=self.holds_cuts
        )
        session = session.with_strip(track.id, partial(_fields, later=later))
        return session.changed(tracks=tuple(one for one in session.tracks if one.id != back.id))


class RemoveStandIns(OnTreatment):
    """Take all stand-ins out again, and the rooms that stand for others."""

    do: Literal["remove-stand-ins"] = "remove-stand-ins"

    def applied(self, session: Session) -> Session:
        """Return the session without any. Raises nothing. Source: ours."""
        rooms = {group.id for group in session.groups if group.stand_in}

        def lasting(strip: StripBase) -> dict[str, object]:
            sends = tuple(send for send in strip.sends if send.to_id not in rooms)
            return {"ledger": strip.lasting_ledger, "sends": sends}

        for strip in session.strips():
            session = session.with_strip(strip.id, lasting)
        for track in session.tracks:
            if track.later is not None:
                session = session.with_strip(track.id, partial(_fields, later=None))
        return session.changed(groups=tuple(group for group in session.groups if group.id not in rooms))
