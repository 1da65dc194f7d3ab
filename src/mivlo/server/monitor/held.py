"""The sessions that are being listened to, as they are now: read once for all pages, and anew after each change."""

import asyncio
import logging
from collections import OrderedDict

from sqlalchemy.exc import SQLAlchemyError

from mivlo.core.engine.listening import Blind, Listening
from mivlo.server.db.engine import open_db
from mivlo.server.services.blind import pressed_in
from mivlo.server.services.sessions import read_draft, read_session
from mivlo.server.services.state import Draft, SessionState

__all__ = ["HeldSessions", "draft_of", "pressed_of"]

MOST_HELD = 8
log = logging.getLogger(__name__)


class HeldSessions:
    """Holds sessions at their newest known revision; while the database is away, what is held goes on."""

    def __init__(self) -> None:
        self._held: OrderedDict[str, SessionState] = OrderedDict()
        self._reading: dict[str, asyncio.Task[SessionState]] = {}

    def now(self, session_id: str) -> SessionState | None:
        """Return a session as it is held, without waiting."""
        return self._held.get(session_id)

    async def at_least(self, session_id: str, revision: int | None) -> SessionState:
        """Return a session at a revision or a newer one; None: read it anew. Where it cannot be read, as it is held.

        Raises
        ------
        NotFoundError: no such session
        SQLAlchemyError: it was never read, and the database is away
        """
        held = self._held.get(session_id)
        if held is not None and revision is not None and held.revision >= revision:
            return held
        reading = self._reading.get(session_id)
        if reading is not None:  # it may have begun before the change that is asked for
            await asyncio.wait([reading])
            held = self._held.get(session_id)
            if held is not None and revision is not None and held.revision >= revision:
                return held
        reading = self._reading.get(session_id)
        if reading is None:
            reading = self._reading[session_id] = asyncio.create_task(asyncio.to_thread(_read, session_id))
            reading.add_done_callback(lambda _: self._reading.pop(session_id, None))
        try:
            self._keep(await asyncio.shield(reading))
        except SQLAlchemyError as error:
            if held is None:
                raise
            log.warning("session %s stays at revision %d: %s", session_id, held.revision, type(error).__name__)
        return self._held[session_id]

    def _keep(self, state: SessionState) -> None:
        held = self._held.get(state.id)
        if held is None or state.revision >= held.revision:
            self._held[state.id] = state
        self._held.move_to_end(state.id)
        while len(self._held) > MOST_HELD:
            self._held.popitem(last=False)


def _read(session_id: str) -> SessionState:
    with open_db() as db:
        return read_session(db, session_id)


def draft_of(session_id: str, draft_id: str) -> Draft:
    """Return what was drafted; raises NotFoundError, SQLAlchemyError."""
    with open_db() as db:
        return read_draft(db, session_id, draft_id)


def pressed_of(session_id: str, blind: Blind) -> Listening:
    """Return what is heard in a blind check where something is pressed; raises as `pressed_in`, SQLAlchemyError."""
    with open_db() as db:
        return pressed_in(db, session_id, blind)
