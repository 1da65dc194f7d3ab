"""Files dropped on the start page: looked at before there is a session, then taken in one by one."""

from typing import Annotated

from fastapi import APIRouter, Path, Request
from fastapi.concurrency import run_in_threadpool

from mivlo.server.api.bundles import MAX_BYTES
from mivlo.server.api.common import Now, Problem
from mivlo.server.api.gather import take_in_track
from mivlo.server.api.uploads import UPLOAD_BODY, received
from mivlo.server.services.bundles import bring_in
from mivlo.server.services.staging import StagedFile, forget, staged, staged_path
from mivlo.server.services.state import SessionState

__all__ = ["router"]

router = APIRouter(
    prefix="/api", tags=["gather"],
    responses={404: {"model": Problem}, 413: {"model": Problem}, 422: {"model": Problem}, 507: {"model": Problem}},
)  # fmt: skip
StagedId = Annotated[str, Path(pattern="^[0-9a-f]{32}$")]


@router.post("/staged", status_code=201, openapi_extra=UPLOAD_BODY)
async def stage(request: Request) -> list[StagedFile]:
    """Take a file, or a ZIP of files, and tell what each is; nothing of a session yet."""
    async with received(request, max_bytes=MAX_BYTES) as upload:
        return await run_in_threadpool(staged, upload.path, upload.name)


@router.post("/sessions/{session_id}/tracks/staged/{file_id}", status_code=201)
def take_staged(now: Now, file_id: StagedId) -> SessionState:
    """Take a file in as a new track that has arrived before."""
    path, name = staged_path(file_id)
    try:
        return take_in_track(now, path, name, role=None)
    finally:
        forget(file_id)


@router.post("/bundles/staged/{file_id}", status_code=201)
def open_staged_bundle(file_id: StagedId) -> SessionState:
    """Make a session of a bundle that has arrived before."""
    path, name = staged_path(file_id)
    try:
        return bring_in(path, name=name)
    finally:
        forget(file_id)
