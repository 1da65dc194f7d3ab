"""Bundles: a session as one file, out and in."""

import shutil

from fastapi import APIRouter, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import FileResponse
from starlette.background import BackgroundTask

from mivlo.server.api.common import Db, Now, Problem
from mivlo.server.api.uploads import UPLOAD_BODY, received
from mivlo.server.services.bundles import bring_in, make_bundle
from mivlo.server.services.state import SessionState

__all__ = ["router"]

MAX_BYTES = 64 << 30
router = APIRouter(
    prefix="/api", tags=["bundles"],
    responses={404: {"model": Problem}, 413: {"model": Problem}, 422: {"model": Problem}, 507: {"model": Problem}},
)  # fmt: skip


@router.get("/sessions/{session_id}/bundle", response_class=FileResponse)
def read_bundle(now: Now, db: Db) -> FileResponse:
    """Return a session with its files as one ZIP, by the schema in docs/bundle.schema.json."""
    path = make_bundle(db, now)
    name = "".join(one if one.isprintable() and one not in '/\\:*?"<>|' else " " for one in now.name).strip()
    removed = BackgroundTask(shutil.rmtree, path.parent, ignore_errors=True)
    return FileResponse(path, media_type="application/zip", filename=f"{name or 'session'}.zip", background=removed)


@router.post("/bundles", status_code=201, openapi_extra=UPLOAD_BODY)
async def open_bundle(request: Request) -> SessionState:
    """Make a session of a bundle: all of it, or nothing."""
    async with received(request, max_bytes=MAX_BYTES) as upload:
        return await run_in_threadpool(bring_in, upload.path, name=upload.name)
