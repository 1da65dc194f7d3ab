"""Gather: files come in as tracks, and as references."""

from pathlib import Path

from fastapi import APIRouter, Request
from fastapi.concurrency import run_in_threadpool

from mivlo.core.errors import ParameterError
from mivlo.core.roles import ROLES, role_of_name
from mivlo.server.api.common import Now, Problem
from mivlo.server.api.uploads import UPLOAD_BODY, Upload, received
from mivlo.server.db.engine import open_db
from mivlo.server.services import sessions
from mivlo.server.services.imports import import_audio
from mivlo.server.services.replacing import TrackReplaced, replace_sound
from mivlo.server.services.state import SessionState

__all__ = ["router", "take_in_track"]

router = APIRouter(
    prefix="/api/sessions/{session_id}",
    tags=["gather"],
    responses={413: {"model": Problem}, 422: {"model": Problem}, 507: {"model": Problem}},
)


@router.post("/tracks", status_code=201, openapi_extra=UPLOAD_BODY)
async def import_track(now: Now, request: Request) -> SessionState:
    """Take a file in as a new track, or say why not; its name tells its role where nobody does."""
    async with received(request) as upload:
        return await run_in_threadpool(_import, now, upload)


def _import(now: SessionState, upload: Upload) -> SessionState:
    return take_in_track(now, upload.path, upload.name, role=upload.fields.get("role"))


def take_in_track(now: SessionState, path: Path, called: str, *, role: str | None) -> SessionState:
    """Take a file in as a new track, under a name and a role that it tells itself; `path` is moved away.

    Raises
    ------
    ParameterError: no such role
    AudioFileError: what cannot be taken in
    """
    if role and role not in ROLES:
        raise ParameterError(f"role={role!r:.80} must be one of: {', '.join(ROLES)}")
    audio = import_audio(now.id, now.sample_rate_hz, path, name=called)
    # What a recorder was told about the track says more than what it called the file.
    stem = Path(called).stem
    name = audio.facts["said_name"][:120] or stem[:120] or "Track"
    by_name = next((one for one in map(role_of_name, (name, stem)) if one != "other"), "other")
    with open_db() as db:
        return sessions.add_track(db, audio, name=name, role=role or by_name)


@router.post("/tracks/{track_id}/audio", openapi_extra=UPLOAD_BODY)
async def replace_audio(now: Now, track_id: str, request: Request) -> TrackReplaced:
    """Give a track another file, and tell what changed; its ledger stays."""
    now.track(track_id)
    async with received(request) as upload:
        return await run_in_threadpool(_replace, now, track_id, upload)


def _replace(now: SessionState, track_id: str, upload: Upload) -> TrackReplaced:
    return replace_sound(now, track_id, upload.path, upload.name)


@router.post("/references", status_code=201, openapi_extra=UPLOAD_BODY)
async def import_reference(now: Now, request: Request) -> SessionState:
    """Take in a mix of somebody else that is heard beside the session's own, and never in it."""
    async with received(request) as upload:
        return await run_in_threadpool(_refer, now, upload)


def _refer(now: SessionState, upload: Upload) -> SessionState:
    audio = import_audio(now.id, now.sample_rate_hz, upload.path, name=upload.name)
    with open_db() as db:
        return sessions.add_reference(db, audio, name=Path(upload.name).stem[:120] or "Reference")
