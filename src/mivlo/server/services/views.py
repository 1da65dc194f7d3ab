"""What the bench looks at: waveforms, spectra, spectrogram pictures, responses, loudness; computed in the pool."""

import hashlib
import shutil
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from functools import lru_cache
from pathlib import Path

import numpy as np
from pydantic import BaseModel

from mivlo.core.audiofile import write_store
from mivlo.core.engine.listening import ledgers_switched
from mivlo.core.engine.mix import Mix, mix_of_session
from mivlo.core.engine.render import render_mix
from mivlo.core.engine.source import blocks_of, open_source
from mivlo.core.errors import NotFoundError
from mivlo.core.filters.linear_phase import has_linear_phase_form
from mivlo.core.level_match import LevelMatch
from mivlo.core.moves import Move
from mivlo.core.moves.capabilities import FollowsLevel, Steady
from mivlo.core.spectra.average import (
    AXIS_HZ,
    band_levels_of,
    far_outline,
    highest_near,
    level_percentiles,
    near_outline,
)
from mivlo.core.spectra.pictures import Tile, difference_png, ink_png, spectrogram_tile, waveform_peaks
from mivlo.core.treatment import treatment_response
from mivlo.server.services.imports import STORED, stored_path
from mivlo.server.services.level_match import level_match_of_mix
from mivlo.server.services.pool import in_pool
from mivlo.server.services.state import SessionState
from mivlo.server.settings import settings

__all__ = [
    "Bounce", "MixComparison", "Responses", "Spectrum", "Waveform", "bounce", "keep_only",
    "mix_comparison", "picture", "rendered_folder", "responses", "spectrum", "waveform",
]  # fmt: skip


class Waveform(BaseModel):
    """Lowest and highest sample of each column of a whole track."""

    lowest: list[float]
    highest: list[float]


class Spectrum(BaseModel):
    """The average spectrum of a stretch, and its two outlines, at the frequencies of the axis."""

    hz: list[float]
    level_db: list[float]
    outline_db: list[float]
    far_outline_db: list[float]
    stands_out_db: list[float]  # the highest within a twelfth of an octave around
    often_db: list[float]  # what is there 95 % of the time
    seldom_db: list[float]  # what is there only 5 % of it
    highest_db: list[float]  # what is ever there


class MovingResponse(BaseModel):
    """What one dynamic move does at its full depth."""

    index: int
    full_db: list[float]
    extent_db: float


class Responses(BaseModel):
    """What moves do always, and each of those that come and go at its full depth."""

    steady_db: list[float]
    moving: list[MovingResponse]
    without_linear_phase: list[int]  # steady moves too low and narrow for it, by index


class Bounce(BaseModel):
    """The sound of a group or of the mix before its own moves, as an audio of its own."""

    audio_id: str
    n_frames: int


class MixComparison(BaseModel):
    """The mix without all moves and with them, over the loop or the song; levels at the frequencies of the axis."""

    listening: LevelMatch
    hz: list[float]
    before_db: list[float]
    after_db: list[float]


@lru_cache(maxsize=256)
def waveform(audio_id: str, n_columns: int) -> Waveform:
    """Return a track's waveform."""
    lowest, highest = in_pool(_waveform, stored_path(audio_id), n_columns)
    return Waveform(lowest=lowest, highest=highest)


def _waveform(path: Path, n_columns: int) -> tuple[list[float], list[float]]:
    source = open_source(path)
    peaks = np.round(waveform_peaks(source, start=0, end=source.n_frames, n_columns=n_columns), 4)
    return peaks[0].tolist(), peaks[1].tolist()


@lru_cache(maxsize=256)
def spectrum(audio_id: str, start: int, end: int, sample_rate_hz: int) -> Spectrum:
    """Return the average spectrum of frames start..end of a track's file."""
    curves = in_pool(_spectrum, stored_path(audio_id), start, end, sample_rate_hz)
    level_db, outline_db, far_db, standing_db, often_db, seldom_db, highest_db = curves
    return Spectrum(
        hz=AXIS_HZ.tolist(), level_db=level_db, outline_db=outline_db, far_outline_db=far_db,
        stands_out_db=standing_db, often_db=often_db, seldom_db=seldom_db, highest_db=highest_db,
    )  # fmt: skip


def _spectrum(path: Path, start: int, end: int, sample_rate_hz: int) -> list[list[float]]:
    source = open_source(path)
    end = min(end, source.n_frames)
    n_frames = max(end - start, 1)
    level_db = band_levels_of(blocks_of(source, start, start + n_frames), n_frames, sample_rate_hz=sample_rate_hz)
    often_db, seldom_db, highest_db = level_percentiles(
        source, (5.0, 95.0, 100.0), start=start, end=max(end, start + 1), sample_rate_hz=sample_rate_hz
    )
    near_db = near_outline(level_db)
    curves = (
        level_db,
        near_db,
        far_outline(level_db),
        highest_near(level_db - near_db),
        often_db,
        seldom_db,
        highest_db,
    )
    return [np.round(curve, 2).tolist() for curve in curves]


def picture(audio_id: str, tile: Tile, sample_rate_hz: int, *, before_id: str | None = None) -> Path:
    """Return the file of a spectrogram picture, or of its difference from another, computed when first asked for."""
    folder = stored_path(audio_id).parent / ("pictures" if before_id is None else f"against-{before_id}")
    if tile.start_frame >= open_source(stored_path(audio_id)).n_frames:
        raise NotFoundError(
            f"column {tile.column} lies beyond the end of audio {audio_id}: there is nothing to be seen"
        )
    path = folder / f"{sample_rate_hz}-{tile.time_zoom}-{tile.column}-{tile.freq_zoom}-{tile.row}.png"
    if not path.exists():
        before = None if before_id is None else stored_path(before_id)
        in_pool(_picture, stored_path(audio_id), before, tile, sample_rate_hz, path)
    return path


def _picture(stored: Path, before: Path | None, tile: Tile, sample_rate_hz: int, path: Path) -> None:
    level_db = spectrogram_tile(open_source(stored), tile, sample_rate_hz=sample_rate_hz)
    if before is None:
        png = ink_png(level_db)
    else:
        png = difference_png(spectrogram_tile(open_source(before), tile, sample_rate_hz=sample_rate_hz), level_db)
    path.parent.mkdir(exist_ok=True)
    part = path.with_suffix(".part")
    part.write_bytes(png)
    part.replace(path)


def responses(moves: tuple[Move, ...], sample_rate_hz: int) -> Responses:
    """Return what moves in series do at the frequencies of the axis below half the rate."""
    hz = np.minimum(AXIS_HZ, 0.4999 * sample_rate_hz)

    def told(chosen: list[Move]) -> list[float]:
        h = np.abs(treatment_response(chosen, hz, sample_rate_hz))
        return [round(float(value), 3) for value in 20.0 * np.log10(np.maximum(h, 1e-6))]

    moving = [
        MovingResponse(index=index, full_db=told([move.model_copy(update={"on": True})]), extent_db=move.extent_db)
        for index, move in enumerate(moves)
        if isinstance(move, FollowsLevel) and move.on
    ]
    return Responses(
        steady_db=told([move for move in moves if isinstance(move, Steady)]),
        moving=moving,
        without_linear_phase=[
            index for index, move in enumerate(moves)
            if isinstance(move, Steady) and not has_linear_phase_form(move.sections(sample_rate_hz))
        ],
    )  # fmt: skip


def bounce(state: SessionState, group_id: str) -> Bounce:
    """Return what goes into a group or the mix, rendered when it is first asked for as it is now.

    Raises
    ------
    NotFoundError: no such group
    """
    groups = {group.id: group for group in (*state.groups, state.master)}
    if group_id not in groups:
        raise NotFoundError(f"group {group_id} is not in this session")
    mix = ledgers_switched(mix_of_session(state), group_id, on=False)
    if group_id != state.master.id:
        # Only what is heard of the group; the others stay for moves that listen to them.
        plain = mix.master.model_copy(update={"ledger": (), "gain_db": 0.0})
        outermost = {"group_id": None, "sends": ()}
        own = tuple(one.model_copy(update=outermost) if one.id == group_id else one for one in mix.groups)
        mix = mix.model_copy(update={"alone_track_id": group_id, "groups": own, "master": plain})
    sources = state.sources_of(group_id)
    end = max((t.start_frame + state.audio_of(t).n_frames for t in state.tracks if t.id in sources), default=0)
    key = hashlib.md5(f"{mix.model_dump_json()} {end}".encode(), usedforsecurity=False).hexdigest()
    folder = settings().audio_folder(key)
    if not (folder / STORED).is_file():
        keep_only(f"bounce-of-{group_id}")
        in_pool(_bounce, str(settings().data / "audio"), mix, max(end, 1), state.sample_rate_hz, folder, group_id)
    return Bounce(audio_id=key, n_frames=max(end, 1))


def keep_only(marker: str) -> None:
    """Forget what was rendered before for the same purpose."""
    for older in (settings().data / "audio").glob(f"*/{marker}"):
        shutil.rmtree(older.parent, ignore_errors=True)


@contextmanager
def rendered_folder(folder: Path, *, marker: str) -> Iterator[Path]:
    """Give a folder to write into, which takes its place when all is written."""
    part = folder.with_name(f".{folder.name}.part")
    shutil.rmtree(part, ignore_errors=True)
    part.mkdir(parents=True)
    try:
        yield part
        (part / marker).touch()
        part.replace(folder)
    except BaseException:
        shutil.rmtree(part, ignore_errors=True)
        raise


def _bounce(audio_folder: str, mix: Mix, end: int, sample_rate_hz: int, folder: Path, group_id: str) -> None:
    blocks = render_mix(
        mix,
        lambda audio_id: open_source(Path(audio_folder) / audio_id / STORED),
        start=0,
        end=end,
        sample_rate_hz=sample_rate_hz,
    )
    with rendered_folder(folder, marker=f"bounce-of-{group_id}") as part:
        write_store(part / STORED, blocks, n_channels=2, n_frames=end)


def mix_comparison(state: SessionState) -> MixComparison:
    """Return what all moves together do to the mix."""
    mix = mix_of_session(state)
    end = state.end_frame()
    start, stop = state.loop_start_frame or 0, min(state.loop_end_frame or end, end)
    with ThreadPoolExecutor(2) as both:
        before_db, after_db = both.map(
            lambda on: _mix_spectrum_of(
                ledgers_switched(mix, None, on=on), start, max(stop, start + 1), state.sample_rate_hz
            ),
            (False, True),
        )
    listening = level_match_of_mix(state)
    return MixComparison(listening=listening, hz=AXIS_HZ.tolist(), before_db=before_db, after_db=after_db)


@lru_cache(maxsize=64)
def _mix_spectrum_of(mix: Mix, start: int, end: int, sample_rate_hz: int) -> list[float]:
    return in_pool(_mix_spectrum, str(settings().data / "audio"), mix, start, end, sample_rate_hz)


def _mix_spectrum(audio_folder: str, mix: Mix, start: int, end: int, sample_rate_hz: int) -> list[float]:
    blocks = render_mix(
        mix,
        lambda audio_id: open_source(Path(audio_folder) / audio_id / STORED),
        start=start,
        end=end,
        sample_rate_hz=sample_rate_hz,
    )
    return [round(float(db), 2) for db in band_levels_of(blocks, end - start, sample_rate_hz=sample_rate_hz)]
