"""Taking files in: checked, kept as they came, converted to the session's rate."""

import json
import os
import shutil
from pathlib import Path

from pydantic import BaseModel
from sqlalchemy import select
from sqlalchemy.orm import Session as Database

from mivlo.core.analyses.rendered import SAMPLES
from mivlo.core.audiofile import ImportLimits, inspect_audio, resample_to_store, sha256_of
from mivlo.core.errors import AudioFileError, NotFoundError
from mivlo.core.metadata.containers import carried_by
from mivlo.core.metadata.notes import Notes, notes_of
from mivlo.core.model import Audio, FileMarker
from mivlo.core.model.base import printable
from mivlo.core.pairs import name_of_all
from mivlo.server.db.engine import open_db
from mivlo.server.db.tables import AudioRow, ProductRow, SessionRow, new_id
from mivlo.server.services.products import ENDED, Priority, Wanted, want
from mivlo.server.services.waiting import ended
from mivlo.server.settings import settings

__all__ = [
    "ORIGINAL",
    "TAKE_IN",
    "Incoming",
    "audio_row",
    "import_audio",
    "is_taking_in",
    "shown_name",
    "stored_path",
    "take_in",
]

ORIGINAL = "original"
TAKE_IN = "take-in"  # a job like an analysis; its result is what the file is


class Incoming(BaseModel):
    """A file that has arrived, under the id that its sound will have."""

    audio_id: str
    path: Path
    rate_hz: int
    name: str


class TakenIn(BaseModel):
    """What a file is, and what it has become."""

    audio: Audio
    sha256: str


def stored_path(audio_id: str) -> Path:
    """Return where samples at the session's rate are, of a file or of what was rendered; raises NotFoundError."""
    if not (len(audio_id) == 32 and audio_id.isalnum()):
        raise NotFoundError(f"audio {audio_id!r:.80} is not an id")
    for folder in (settings().audio_folder(audio_id), settings().product_folder(audio_id)):
        if (folder / SAMPLES).is_file():
            return folder / SAMPLES
    raise NotFoundError(f"audio {audio_id} is not there")


def import_audio(session_id: str, rate_hz: int, incoming: Path, *, name: str) -> AudioRow:
    """Let one file be taken in by the workers, before all else; `incoming` is moved away.

    Raises
    ------
    AudioFileError: what cannot be taken in, with its reason
    """
    file = Incoming(audio_id=new_id(), path=incoming, rate_hz=rate_hz, name=name)
    wanted = Wanted(file.audio_id, TAKE_IN, session_id, None, file)
    with open_db() as db:
        want(db, wanted, priority=Priority.WAITED_FOR)
        db.commit()
    try:
        row = ended(file.audio_id)
    except LookupError:
        raise AudioFileError(f"{name}: the session was deleted meanwhile; nothing was taken in") from None
    with open_db() as db:
        db.delete(row)
        db.commit()
    if row.status != "done" or row.result is None:
        raise AudioFileError(row.reason or f"{name}: cannot be taken in")
    return audio_row(session_id, TakenIn.model_validate_json(row.result))


def is_taking_in(db: Database, session_id: str) -> bool:
    """Tell whether files of a session are being taken in just now."""
    under_way = select(ProductRow.id).where(
        ProductRow.session_id == session_id, ProductRow.kind == TAKE_IN, ProductRow.status.not_in(ENDED)
    )
    return db.scalar(under_way.limit(1)) is not None


def _notes_of(file: Incoming) -> Notes:
    try:
        return notes_of(carried_by(file.path))
    except AudioFileError as error:
        raise AudioFileError(f"{file.name}: {error}") from error


def _shared(sha256: str, file: Incoming, folder: Path) -> int | None:
    """Link a folder to what was imported of the same bytes before, so that they are stored once.

    Returns the frames of its samples where they are shared too; None where they have to be made.
    """
    same = select(AudioRow.id, AudioRow.facts, SessionRow.sample_rate_hz).join(SessionRow)
    with open_db() as db:
        twins = db.execute(same.where(AudioRow.sha256 == sha256)).all()
    for audio_id, facts, rate_hz in sorted(twins, key=lambda one: one[2] != file.rate_hz):
        there = settings().audio_folder(audio_id)
        try:
            if not (folder / ORIGINAL).exists():
                os.link(there / ORIGINAL, folder / ORIGINAL)
            if rate_hz == file.rate_hz:
                os.link(there / SAMPLES, folder / SAMPLES)
                return int(facts["n_frames"])
        except OSError:
            continue  # it is just being deleted, or this disk knows no links
    return None


def shown_name(filename: str) -> str:
    """Return the user's name for a file: shown and kept as words, never used as a path. Raises nothing."""
    bare = filename.replace("\\", "/").rsplit("/", 1)[-1]
    return printable(bare)[-255:] or "unnamed"


def audio_row(session_id: str, taken: TakenIn) -> AudioRow:
    """Return what is noted of a file that was taken in."""
    audio = taken.audio
    return AudioRow(id=audio.id, session_id=session_id, sha256=taken.sha256, facts=json.loads(audio.model_dump_json()))


def take_in(file: Incoming, limits: ImportLimits) -> TakenIn:
    """Check, convert and keep one file; leaves nothing behind where it cannot.

    Raises
    ------
    AudioFileError: what cannot be taken in, with its reason
    """
    folder = settings().audio_folder(file.audio_id)
    shutil.rmtree(folder, ignore_errors=True)  # what a killed worker left
    info = inspect_audio(file.path, limits=limits, name=file.name)
    notes = _notes_of(file)
    try:
        folder.mkdir(parents=True)
        sha256 = sha256_of(file.path)
        n_frames = _shared(sha256, file, folder)
        if n_frames is None:
            n_frames = resample_to_store(file.path, folder / SAMPLES, info=info, rate_hz=file.rate_hz, name=file.name)
        if (folder / ORIGINAL).exists():
            file.path.unlink()
        else:
            shutil.move(file.path, folder / ORIGINAL)
    except OSError as error:
        shutil.rmtree(folder, ignore_errors=True)
        raise AudioFileError(f"{file.name}: cannot be stored ({error.strerror or error})") from error
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise
    audio = Audio(
        id=file.audio_id,
        original_name=file.name[-255:],
        format=info.format,
        subtype=info.subtype,
        original_rate_hz=info.sample_rate_hz,
        original_frames=info.n_frames,
        n_channels=info.n_channels,
        n_frames=n_frames,
        time_reference=notes.time_reference,
        said_name=name_of_all(notes.track_names),
        description=notes.description,
        markers=tuple(FileMarker(frame=one.frame, name=one.name) for one in notes.markers if one.frame < info.n_frames),
    )
    return TakenIn(audio=audio, sha256=sha256)
