"""Another file for a track that is there: its ledger stays, and what changed is told."""

from pathlib import Path

from pydantic import BaseModel

from mivlo.core.analyses.replaced import REPLACED, Replaced, ReplacedIn
from mivlo.core.analyses.sounds import sound_into
from mivlo.server.db.engine import open_db
from mivlo.server.services.imports import import_audio
from mivlo.server.services.products import Priority, want, wanted_of
from mivlo.server.services.sessions import replace_audio
from mivlo.server.services.state import SessionState
from mivlo.server.services.waiting import ended

__all__ = ["TrackReplaced", "replace_sound"]


class TrackReplaced(BaseModel):
    """The session with the other file in it, and what changed by that; None where it could not be compared."""

    session: SessionState
    changed: Replaced | None


def replace_sound(now: SessionState, track_id: str, path: Path, name: str) -> TrackReplaced:
    """Take a file in, and give it to a track; `path` is moved away.

    Raises
    ------
    AudioFileError: what cannot be taken in
    NotFoundError: no such track
    """
    audio = import_audio(now.id, now.sample_rate_hz, path, name=name)
    with open_db() as db:
        after = replace_audio(db, track_id, audio)
        was, then = (sound_into(one, one.track(track_id))[0] for one in (now, after))
        both = ReplacedIn(was=was, now=then, sample_rate_hz=now.sample_rate_hz)
        wanted = wanted_of(now.id, track_id, REPLACED, both)
        want(db, wanted, priority=Priority.WAITED_FOR)
        db.commit()
    try:
        row = ended(wanted.id)
    except LookupError:  # the session was deleted meanwhile
        return TrackReplaced(session=after, changed=None)
    changed = None if row.status != "done" or row.result is None else Replaced.model_validate_json(row.result)
    return TrackReplaced(session=after, changed=changed)
