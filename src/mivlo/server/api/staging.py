"""Files dropped on the start page: looked at before there is a session, then taken in one by one."""

from typing import Annotated

from fastapi import APIRouter, Body, Request
from fastapi.concurrency import run_in_threadpool
from pydantic import BaseModel, ConfigDict, Field, StringConstraints

from mivlo.core.rechannel import Split
from mivlo.server.api.bundles import MAX_BYTES
from mivlo.server.api.common import Now, Problem
from mivlo.server.api.gather import take_in_track
from mivlo.server.api.uploads import UPLOAD_BODY, received
from mivlo.server.services.bundles import bring_in
from mivlo.server.services.staging import StagedFile, StagedPair, as_tracks, forget, pairs_of, staged, staged_path
from mivlo.server.services.state import SessionState

__all__ = ["router"]

router = APIRouter(
    prefix="/api", tags=["gather"],
    responses={404: {"model": Problem}, 413: {"model": Problem}, 422: {"model": Problem}, 507: {"model": Problem}},
)  # fmt: skip
StagedId = Annotated[str, StringConstraints(pattern="^[0-9a-f]{32}$")]


@router.post("/staged", status_code=201, openapi_extra=UPLOAD_BODY)
async def stage(request: Request) -> list[StagedFile]:
    """Take a file, or a ZIP of files, and tell what each is; nothing of a session yet."""
    async with received(request, max_bytes=MAX_BYTES) as upload:
        return await run_in_threadpool(staged, upload.path, upload.name)


class Sounds(BaseModel):
    """Files that have arrived before: one, or the left and the right of one sound; what becomes of many channels."""

    model_config = ConfigDict(extra="forbid")

    file_ids: Annotated[list[StagedId], Field(min_length=1, max_length=2)]
    channels: Split | None = None


@router.post("/staged/pairs")
def find_pairs(file_ids: Annotated[list[StagedId], Body(max_length=1_000)]) -> list[StagedPair]:
    """Return which of these files are left and right of one sound, by their names."""
    return pairs_of(file_ids)


@router.post("/sessions/{session_id}/tracks/staged", status_code=201)
def take_staged(now: Now, body: Sounds) -> SessionState:
    """Take files in as new tracks that have arrived before: one track, or as many as the file is split into."""
    tracks = as_tracks(body.file_ids, body.channels)
    try:
        for path, name in tracks:
            now = take_in_track(now, path, name, role=None)
        return now
    finally:
        for path, _ in tracks:
            path.unlink(missing_ok=True)
        for file_id in body.file_ids:
            forget(file_id)


@router.post("/bundles/staged/{file_id}", status_code=201)
def open_staged_bundle(file_id: StagedId) -> SessionState:
    """Make a session of a bundle that has arrived before."""
    path, name = staged_path(file_id)
    try:
        return bring_in(path, name=name)
    finally:
        forget(file_id)
