"""Hand-overs: asked for, listed, cancelled, and where their files are; the rendering itself is the core's."""

from pathlib import Path
from typing import Literal

from pydantic import BaseModel
from sqlalchemy import select
from sqlalchemy.orm import Session

from mivlo.core.engine.source import open_source
from mivlo.core.errors import NotFoundError
from mivlo.core.hand_over import (
    ALL_FILES,
    HandOverFile,
    HandOverFiles,
    HandOverRequest,
    SoundStore,
    check_request,
    zip_files,
)
from mivlo.server.db.tables import ProductRow, new_id
from mivlo.server.services.imports import ORIGINAL, stored_path
from mivlo.server.services.products import Priority, Wanted, cancel, want
from mivlo.server.services.sessions import read_session
from mivlo.server.settings import settings

__all__ = ["HAND_OVER", "HandOver", "ask_for", "file_path", "kept_sound", "list_handovers", "request_cancel"]

HAND_OVER = "hand-over"


class HandOver(BaseModel):
    """A hand-over and how far it is."""

    id: str
    request: HandOverRequest
    status: Literal["waiting", "running", "done", "failed", "cancelled"]
    progress: float
    message: str
    files: list[HandOverFile]


def ask_for(db: Session, session_id: str, request: HandOverRequest) -> HandOver:
    """Write a hand-over down, for a worker to find; somebody waits for it.

    Raises
    ------
    ParameterError: no tracks chosen, a loop that is not set
    NotFoundError: no such session or track
    """
    state = read_session(db, session_id).as_treated(request.treatment)
    check_request(state, request)
    wanted = Wanted(new_id(), HAND_OVER, session_id, None, request)
    row = want(db, wanted, priority=Priority.WAITED_FOR)
    db.commit()
    return _as_model(row)


def list_handovers(db: Session, session_id: str) -> list[HandOver]:
    """Return a session's hand-overs, newest first."""
    query = select(ProductRow).where(ProductRow.session_id == session_id, ProductRow.kind == HAND_OVER)
    return [_as_model(row) for row in db.scalars(query.order_by(ProductRow.created_at.desc()).limit(50))]


def request_cancel(db: Session, handover_id: str) -> HandOver:
    """Ask the job to stop; one that still waits is cancelled at once."""
    row = db.get(ProductRow, handover_id)
    if row is None or row.kind != HAND_OVER:
        raise NotFoundError(f"hand-over {handover_id} is not there")
    cancel(db, row)
    db.commit()
    return _as_model(row)


def file_path(db: Session, handover_id: str, index: int | None) -> tuple[Path, str]:
    """Return a finished file (or, for None, all of them as a zip) and its name for the user."""
    row = db.get(ProductRow, handover_id)
    if row is None or row.kind != HAND_OVER or row.status != "done":
        raise NotFoundError(f"hand-over {handover_id} has no finished files")
    files = _as_model(row).files
    folder = settings().handover_folder(handover_id)
    if index is None:
        if not (folder / ALL_FILES).is_file():  # of one file it is made when somebody wants it
            zip_files(folder, files)
        return folder / ALL_FILES, "mivlo tracks.zip"
    if not 0 <= index < len(files):
        raise NotFoundError(f"file {index} of hand-over {handover_id} is not there")
    return folder / f"{index}", files[index].name


def kept_sound() -> SoundStore:
    """Return where the sound of all sessions is kept."""
    return SoundStore(
        original=lambda audio_id: settings().audio_folder(audio_id) / ORIGINAL,
        open=lambda audio_id: open_source(stored_path(audio_id)),
        limits=settings().import_limits,
    )


def _as_model(row: ProductRow) -> HandOver:
    request = HandOverRequest.model_validate_json(row.params)
    files = HandOverFiles.model_validate_json(row.result).files if row.result else []
    fields = {"id": row.id, "status": row.status, "progress": row.progress, "message": row.reason or ""}
    return HandOver.model_validate({**fields, "request": request, "files": files})
