"""Bench: pictures, spectra, responses and loudness."""

from typing import Annotated

from fastapi import APIRouter, Path, Query
from fastapi.responses import FileResponse
from pydantic import BaseModel, Field

from mivlo import __version__
from mivlo.core.engine.mix import Probe
from mivlo.core.moves import Move
from mivlo.core.moves.figures import MoveKind, describe_kinds
from mivlo.core.roles import ROLES, Role
from mivlo.core.spectra.average import AXIS_HZ
from mivlo.core.spectra.pictures import TILE_COLUMNS, TILE_ROWS, Tile
from mivlo.server.api.common import Now, Problem
from mivlo.server.services import strips, views
from mivlo.server.settings import settings

__all__ = ["router"]

router = APIRouter(prefix="/api", tags=["bench"], responses={404: {"model": Problem}, 422: {"model": Problem}})
AudioId = Annotated[str, Path(pattern="^[0-9a-f]{32}$")]
Rate = Annotated[int, Query(ge=44_100, le=96_000)]


class About(BaseModel):
    """What a page needs to know of this installation."""

    version: str
    monitor_port: int
    roles: list[Role]
    kinds: list[MoveKind]
    axis_hz: list[float]
    tile_columns: int
    tile_rows: int
    probe: Probe
    import_limits: str


class Moves(BaseModel):
    """Moves in series at a rate."""

    moves: list[Move] = Field(max_length=200)
    sample_rate_hz: int = Field(ge=44_100, le=96_000)


@router.get("/about")
def about() -> About:
    """Return kinds of moves with limits and starting values, roles, and where sound comes from."""
    limits = settings().import_limits
    return About(
        version=__version__,
        monitor_port=settings().monitor_port,
        roles=list(ROLES),
        kinds=describe_kinds(),
        axis_hz=AXIS_HZ.tolist(),
        tile_columns=TILE_COLUMNS,
        tile_rows=TILE_ROWS,
        probe=Probe(track_id="", hz=1_000.0),
        import_limits=f"up to {limits.max_seconds / 60:.0f} minutes and {limits.max_bytes / 2**30:.1f} GiB a file, "
        f"{limits.min_rate_hz // 1000}-{limits.max_rate_hz // 1000} kHz, mono or stereo",
    )


@router.get("/audio/{audio_id}/waveform")
def waveform(audio_id: AudioId, columns: Annotated[int, Query(ge=16, le=4000)] = 1200) -> views.Waveform:
    """Return a track's waveform."""
    return views.waveform(audio_id, columns)


@router.get("/audio/{audio_id}/spectrum")
def spectrum(
    audio_id: AudioId, start: Annotated[int, Query()], end: Annotated[int, Query()], sample_rate_hz: Rate
) -> views.Spectrum:
    """Return the average spectrum of frames of a track's file."""
    return views.spectrum(audio_id, max(start, 0), min(end, start + 1200 * sample_rate_hz), sample_rate_hz)


@router.get("/audio/{audio_id}/picture/{time_zoom}/{column}/{freq_zoom}/{row}.png", response_class=FileResponse)
def picture(
    audio_id: AudioId,
    time_zoom: Annotated[int, Path(ge=0, le=12)],
    column: Annotated[int, Path(ge=0, le=100_000)],
    freq_zoom: Annotated[int, Path(ge=0, le=5)],
    row: Annotated[int, Path(ge=0, le=31)],
    sample_rate_hz: Rate,
) -> FileResponse:
    """Return one picture of the spectrogram's pyramid; its opacity is the ink."""
    path = views.picture(audio_id, Tile(time_zoom, column, freq_zoom, row), sample_rate_hz)
    return FileResponse(path, media_type="image/png", headers={"cache-control": "max-age=31536000, immutable"})


@router.get(
    "/audio/{audio_id}/difference/{before_id}/{time_zoom}/{column}/{freq_zoom}/{row}.png", response_class=FileResponse
)
def difference(
    audio_id: AudioId,
    before_id: AudioId,
    time_zoom: Annotated[int, Path(ge=0, le=12)],
    column: Annotated[int, Path(ge=0, le=100_000)],
    freq_zoom: Annotated[int, Path(ge=0, le=5)],
    row: Annotated[int, Path(ge=0, le=31)],
    sample_rate_hz: Rate,
) -> FileResponse:
    """Return the picture of what lies between a sound and what it was before; its opacity is the dB."""
    path = views.picture(audio_id, Tile(time_zoom, column, freq_zoom, row), sample_rate_hz, before_id=before_id)
    return FileResponse(path, media_type="image/png", headers={"cache-control": "max-age=31536000, immutable"})


@router.post("/response")
def response(body: Moves) -> views.Responses:
    """Return the response in dB of moves in series at the axis' frequencies."""
    return views.responses(tuple(body.moves), body.sample_rate_hz)


@router.get("/sessions/{session_id}/groups/{group_id}/sound")
def bounce(now: Now, group_id: str) -> views.Bounce:
    """Return what goes into a group, or into the mix, as an audio to look at."""
    return views.bounce(now, group_id)


@router.get("/sessions/{session_id}/strips/{strip_id}/treated")
def treated(now: Now, strip_id: str) -> views.Bounce:
    """Return a track, a group or the mix behind its own moves, as an audio to look at."""
    return strips.treated(now, strip_id)
