"""Gather: files come in as tracks."""

import shutil
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, Form, UploadFile

from mivlo.core.roles import Role, role_of_name
from mivlo.server.api.common import Db, Problem
from mivlo.server.db.tables import TrackRow, new_id
from mivlo.server.services import sessions
from mivlo.server.services.imports import import_audio
from mivlo.server.services.state import SessionState
from mivlo.server.settings import settings

__all__ = ["router"]

router = APIRouter(prefix="/api", tags=["gather"], responses={422: {"model": Problem}, 507: {"model": Problem}})


@router.post("/sessions/{session_id}/tracks", status_code=201)
def import_track(
    session_id: str, file: UploadFile, db: Db, role: Annotated[Role | None, Form()] = None
) -> SessionState:
    """Take a file in as a new track, or say why not; its name tells its role where nobody does."""
    name = _shown_name(file)
    with _Incoming(file) as path:
        audio = import_audio(db, session_id, path, name=name)
    stem = Path(name).stem[:120] or "Track"
    return sessions.add_track(db, audio, name=stem, role=role or role_of_name(stem))


@router.post("/tracks/{track_id}/audio")
def replace_audio(track_id: str, file: UploadFile, db: Db) -> SessionState:
    """Give a track another file; its ledger stays."""
    track = db.get(TrackRow, track_id)
    session_id = track.session_id if track is not None else ""
    with _Incoming(file) as path:
        audio = import_audio(db, session_id, path, name=_shown_name(file))
    return sessions.replace_audio(db, track_id, audio)


def _shown_name(file: UploadFile) -> str:
    """Return the user's name for a file: shown and kept as words, never used as a path."""
    bare = (file.filename or "unnamed").replace("\\", "/").rsplit("/", 1)[-1]
    return "".join(character for character in bare if character.isprintable())[-255:] or "unnamed"


class _Incoming:
    """An upload as a file of a name of ours, gone at the end unless it was moved away."""

    def __init__(self, file: UploadFile) -> None:
        self._file = file
        self._path = settings().data / "incoming" / new_id()

    def __enter__(self) -> Path:
        self._path.parent.mkdir(parents=True, exist_ok=True)
        with self._path.open("wb") as out:
            shutil.copyfileobj(self._file.file, out, 1 << 20)
        return self._path

    def __exit__(self, *_: object) -> None:
        self._path.unlink(missing_ok=True)
