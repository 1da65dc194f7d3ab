"""Hand-over: renders, downloads, settings lists."""

from typing import Annotated

from fastapi import APIRouter, Query
from fastapi.responses import FileResponse, HTMLResponse, Response

from mivlo.core import settings_list
from mivlo.core.hand_over import HandOverRequest
from mivlo.core.model import StripBase
from mivlo.server.api.common import Db, Now, Problem
from mivlo.server.services import handover
from mivlo.server.services.handover import HandOver
from mivlo.server.services.state import SessionState
from mivlo.server.services.storage import Freed, delete_handover

__all__ = ["router"]

router = APIRouter(prefix="/api", tags=["hand-over"], responses={404: {"model": Problem}, 422: {"model": Problem}})
Only = Annotated[str | None, Query(description="one track; all where left out")]


@router.get("/sessions/{session_id}/handovers")
def list_handovers(session_id: str, db: Db) -> list[HandOver]:
    """Return a session's hand-overs, newest first."""
    return handover.list_handovers(db, session_id)


@router.post("/sessions/{session_id}/handovers", status_code=202)
def ask_for(session_id: str, body: HandOverRequest, db: Db) -> HandOver:
    """Start to render in the background."""
    return handover.ask_for(db, session_id, body)


@router.post("/handovers/{handover_id}/cancel")
def cancel(handover_id: str, db: Db) -> HandOver:
    """Stop a render; nothing of it is kept."""
    return handover.request_cancel(db, handover_id)


@router.delete("/handovers/{handover_id}")
def remove(handover_id: str, db: Db) -> Freed:
    """Delete the files of a hand-over for good; one under way is stopped."""
    return delete_handover(db, handover_id)


@router.get("/handovers/{handover_id}/files/{index}", response_class=FileResponse)
def download(handover_id: str, index: int, db: Db) -> FileResponse:
    """Return one finished file."""
    path, name = handover.file_path(db, handover_id, index)
    return FileResponse(path, filename=name, media_type="application/octet-stream")


@router.get("/handovers/{handover_id}/all", response_class=FileResponse)
def download_all(handover_id: str, db: Db) -> FileResponse:
    """Return all finished files of a hand-over as one zip."""
    path, name = handover.file_path(db, handover_id, None)
    return FileResponse(path, filename=name, media_type="application/zip")


@router.get("/sessions/{session_id}/settings-list.csv", response_class=Response)
def settings_csv(now: Now, track_id: Only = None) -> Response:
    """Return the moves as CSV."""
    _, rows = _rows(now, track_id)
    headers = {"content-disposition": 'attachment; filename="settings-list.csv"'}
    return Response(settings_list.to_csv(rows), media_type="text/csv; charset=utf-8", headers=headers)


@router.get("/sessions/{session_id}/settings-list", response_class=HTMLResponse)
def settings_page(now: Now, track_id: Only = None) -> HTMLResponse:
    """Return the moves as a printable page."""
    name, rows = _rows(now, track_id)
    return HTMLResponse(settings_list.to_page(name, rows))


def _rows(state: SessionState, track_id: str | None) -> tuple[str, list[dict[str, str]]]:
    strips: list[tuple[str, StripBase]] = [(strip.name, strip) for strip in state.strips()]
    called = next((one.name for one in state.treatments if one.letter == state.treatment), "")
    treatment = f"{state.treatment} {called}".strip()
    rows = settings_list.list_rows(strips, sample_rate_hz=state.sample_rate_hz, treatment=treatment)
    chosen = {name for name, one in strips if track_id in (None, one.id)}
    return state.name, [row for row in rows if row["track"] in chosen]
