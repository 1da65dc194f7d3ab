"""What sessions, hand-overs and sound take on the disk, and making it free for good."""

import os
import shutil
from collections import Counter
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from pydantic import BaseModel
from sqlalchemy import Select, delete, select
from sqlalchemy.orm import Session as Database

from mivlo.core.analyses.registry import ANALYSES
from mivlo.core.errors import ConflictError, NotFoundError
from mivlo.core.model import Audio
from mivlo.server.db.tables import AudioRow, ChangeRow, ProductRow, SessionRow, StripRow
from mivlo.server.services.handover import HAND_OVER
from mivlo.server.services.imports import TAKE_IN
from mivlo.server.services.products import hold_products, tell_of_deletion
from mivlo.server.services.sessions import lock_session
from mivlo.server.services.state import audio_ids_in
from mivlo.server.settings import settings

__all__ = [
    "Freed",
    "Shelved",
    "Storage",
    "UnusedAudio",
    "clear_shelf",
    "delete_audio",
    "delete_handover",
    "delete_session",
    "shelf",
    "shelve",
    "storage_of",
    "sweep",
    "unshelve",
]

SHELF_DAYS = 7


class Freed(BaseModel):
    """How much is free again."""

    freed_bytes: int


class Shelved(BaseModel):
    """A deleted session that can still come back, and when it goes for good."""

    id: str
    name: str
    bytes: int
    goes_at: datetime


class UnusedAudio(BaseModel):
    """Sound that no track has any more, and that only undo could bring back."""

    audio: Audio
    bytes: int


class Storage(BaseModel):
    """What a session takes on the disk: all of it, its hand-overs, and sound that is kept for undo alone."""

    session_bytes: int
    handover_bytes: dict[str, int]
    unused: list[UnusedAudio]


def storage_of(db: Database, session_id: str) -> Storage:
    """Return what a session takes; raises NotFoundError."""
    if db.get(SessionRow, session_id) is None:
        raise NotFoundError(f"session {session_id:.80} is not there")
    used = _used_now(db, session_id)
    unused = [
        UnusedAudio(audio=Audio.model_validate(row.facts), bytes=_freed_by(_folders_with(db, session_id, row.id)))
        for row in db.scalars(select(AudioRow).where(AudioRow.session_id == session_id))
        if row.id not in used
    ]
    handovers = db.scalars(_products_of(session_id).where(ProductRow.kind == HAND_OVER))
    return Storage(
        session_bytes=_bytes_of(_folders_of(db, session_id)),
        handover_bytes={one: _freed_by([settings().handover_folder(one)]) for one in handovers},
        unused=unused,
    )


def shelve(db: Database, session_id: str) -> None:
    """Put a session on the shelf, from which it comes back whole; raises NotFoundError."""
    lock_session(db, session_id).shelved_at = datetime.now(UTC)
    db.commit()


def unshelve(db: Database, session_id: str) -> None:
    """Bring a session back from the shelf; one that is not on it stays where it is. Raises NotFoundError."""
    row = db.get(SessionRow, session_id, with_for_update=True)
    if row is None:
        raise NotFoundError(f"session {session_id:.80} is not on the shelf (any more)")
    row.shelved_at = None
    db.commit()


def shelf(db: Database) -> list[Shelved]:
    """Return what is on the shelf, what was put there last at the front."""
    there = select(SessionRow).where(SessionRow.shelved_at.is_not(None))
    rows = db.scalars(there.order_by(SessionRow.shelved_at.desc()))
    return [
        Shelved(
            id=row.id, name=row.name, bytes=_freed_by(_folders_of(db, row.id)),
            goes_at=row.shelved_at + timedelta(days=SHELF_DAYS),
        )
        for row in rows
        if row.shelved_at is not None
    ]  # fmt: skip


def delete_session(db: Database, session_id: str) -> Freed:
    """Delete a session for good, with all its sound and hand-overs; raises NotFoundError."""
    hold_products(db)
    row = db.get(SessionRow, session_id, with_for_update=True)
    if row is None:
        raise NotFoundError(f"session {session_id:.80} is not there")
    folders = list(_folders_of(db, session_id))
    freed_bytes = _freed_by(folders)
    tell_of_deletion(db, ProductRow.session_id == session_id)
    db.delete(row)
    db.commit()  # what is not in the database any more is in nobody's way, even if this ends here
    _remove(folders)
    return Freed(freed_bytes=freed_bytes)


def delete_handover(db: Database, handover_id: str) -> Freed:
    """Delete the files of a hand-over for good; one under way is stopped. Raises NotFoundError."""
    row = db.get(ProductRow, handover_id)
    if row is None or row.kind != HAND_OVER:
        raise NotFoundError(f"hand-over {handover_id:.80} is not there")
    folder = settings().handover_folder(handover_id)
    freed_bytes = _freed_by([folder])
    tell_of_deletion(db, ProductRow.id == handover_id)
    db.delete(row)
    db.commit()
    _remove([folder])
    return Freed(freed_bytes=freed_bytes)


def delete_audio(db: Database, session_id: str, audio_id: str) -> Freed:
    """Delete sound that no track has any more; what could only be undone with it is forgotten.

    Raises
    ------
    NotFoundError: no such session or sound
    ConflictError: a track has it
    """
    hold_products(db)
    row = lock_session(db, session_id)
    audio = db.get(AudioRow, audio_id)
    if audio is None or audio.session_id != session_id:
        raise NotFoundError(f"audio {audio_id:.80} is not in this session")
    if audio_id in _used_now(db, session_id):
        raise ConflictError("a track or a reference has this sound: remove that first")
    _forget_changes_with(db, row, audio_id)
    folders = _folders_with(db, session_id, audio_id)
    freed_bytes = _freed_by(folders)
    made_of_it = ProductRow.id.in_([folder.name for folder in folders])
    tell_of_deletion(db, made_of_it)
    db.execute(delete(ProductRow).where(made_of_it))
    db.delete(audio)
    db.commit()
    _remove(folders)
    return Freed(freed_bytes=freed_bytes)


def _folders_with(db: Database, session_id: str, audio_id: str) -> list[Path]:
    """Return where a sound lies, and what was made of it."""
    made_of_it = db.scalars(_products_of(session_id).where(ProductRow.audio_ids.contains([audio_id])))
    return [settings().audio_folder(audio_id), *map(settings().product_folder, made_of_it)]


def sweep(db: Database) -> None:
    """Remove what killed processes left behind, and sound that no session knows any more."""
    data = settings().data
    hold_products(db)
    db.execute(delete(ProductRow).where(ProductRow.kind == TAKE_IN))  # whoever waited for it is gone
    db.commit()
    audio = set(db.scalars(select(AudioRow.id)))
    products = set(db.scalars(select(ProductRow.id)))
    left: list[Path] = [*(data / "incoming").glob("*"), data / "ensemble"]  # where an older version kept its maps
    left += [one for one in (data / "audio").glob("*") if one.name not in audio]
    left += [*data.glob("audio/*/pictures"), *data.glob("audio/*/against-*")]  # an older version's
    left += [one for name in ("products", "handover") for one in (data / name).glob("*") if one.name not in products]
    _remove(left)
    _forget_lost_products(db)
    clear_shelf(db)


def clear_shelf(db: Database) -> None:
    """Delete for good what has been on the shelf long enough."""
    since = datetime.now(UTC) - timedelta(days=SHELF_DAYS)
    for session_id in list(db.scalars(select(SessionRow.id).where(SessionRow.shelved_at < since))):
        delete_session(db, session_id)


def _forget_lost_products(db: Database) -> None:
    """Forget what was computed and whose files are gone, as after a folder was restored from a backup."""
    there = {one.name for one in (settings().data / "products").glob("*")}
    with_files = select(ProductRow.id).where(ProductRow.status == "done", ProductRow.kind.in_(ANALYSES))
    lost = [
        row_id
        for row_id, kind in db.execute(with_files.add_columns(ProductRow.kind)).all()
        if ANALYSES[kind].writes_files and row_id not in there
    ]
    hold_products(db)
    db.execute(delete(ProductRow).where(ProductRow.id.in_(lost)))
    db.commit()


def _products_of(session_id: str) -> Select[str]:
    return select(ProductRow.id).where(ProductRow.session_id == session_id)


def _used_now(db: Database, session_id: str) -> set[str]:
    states = db.scalars(select(StripRow.state).where(StripRow.session_id == session_id))
    references = db.scalars(select(SessionRow.references).where(SessionRow.id == session_id)).one()
    return {audio_id for one in (*states, *references) for audio_id in audio_ids_in(one)}


def _forget_changes_with(db: Database, row: SessionRow, audio_id: str) -> None:
    """Forget the history as far as it would bring a sound back: what lies before, and what could be redone with it."""
    changes = db.scalars(select(ChangeRow).where(ChangeRow.session_id == row.id)).all()
    with_it = [change.number for change in changes if _names(change.patches, audio_id)]
    done = [number for number in with_it if number <= row.history_at]
    undone = [number for number in with_it if number > row.history_at]
    gone = [change.number for change in changes if (done and change.number <= max(done))]
    gone += [change.number for change in changes if (undone and change.number >= min(undone))]
    db.execute(delete(ChangeRow).where(ChangeRow.session_id == row.id, ChangeRow.number.in_(gone)))


def _names(patches: list[Any], audio_id: str) -> bool:
    sides = (side for patch in patches for side in (patch["before"], patch["after"]))
    return any(audio_id in audio_ids_in(side or {}) for side in sides)


def _folders_of(db: Database, session_id: str) -> Iterator[Path]:
    """Yield all folders of a session: its sound, what was computed of it, its hand-overs."""
    for audio_id in db.scalars(select(AudioRow.id).where(AudioRow.session_id == session_id)):
        yield settings().audio_folder(audio_id)
    for product_id in db.scalars(_products_of(session_id)):
        yield settings().product_folder(product_id)
        yield settings().handover_folder(product_id)


def _bytes_of(folders: Iterable[Path]) -> int:
    """Return what folders take; of a file that is stored once for several, their share."""
    return sum(one.st_blocks * 512 // one.st_nlink for one in _files_in(folders))


def _freed_by(folders: Iterable[Path]) -> int:
    """Return what becomes free when folders are deleted: nothing by a file that others have, too."""
    found = [((one.st_dev, one.st_ino), one) for one in _files_in(folders)]
    n_here = Counter(inode for inode, _ in found)
    return sum(one.st_blocks * 512 for inode, one in dict(found).items() if n_here[inode] == one.st_nlink)


def _files_in(folders: Iterable[Path]) -> Iterator[os.stat_result]:
    return (file.stat() for folder in folders for file in folder.rglob("*") if file.is_file())


def _remove(paths: list[Path]) -> None:
    for path in paths:
        if path.is_dir():
            shutil.rmtree(path, ignore_errors=True)
        else:
            path.unlink(missing_ok=True)
