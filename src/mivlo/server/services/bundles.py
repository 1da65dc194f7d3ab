"""Sessions out of the application and into it, as bundles."""

import shutil
import tempfile
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session as Database

from mivlo.core.bundle import Bundle, BundledCheck, Manifest, renamed, used_audio_ids, write_bundle
from mivlo.core.model import RecordedSession
from mivlo.server.db.engine import open_db
from mivlo.server.db.tables import AudioRow, BlindCheckRow, new_id
from mivlo.server.services.imports import ORIGINAL, Incoming, TakenIn, audio_row, take_in
from mivlo.server.services.sessions import insert_session, read_session
from mivlo.server.services.state import SessionState
from mivlo.server.settings import settings

__all__ = ["bring_in", "make_bundle"]


def make_bundle(db: Database, session: SessionState) -> Path:
    """Write a session as a bundle into a folder of its own, which is the caller's to remove.

    Raises
    ------
    BundleError, OSError: as `write_bundle`
    """
    query = select(BlindCheckRow).where(BlindCheckRow.session_id == session.id, BlindCheckRow.result.is_not(None))
    checks = [
        BundledCheck.model_validate(
            {"asked": row.asked, "order": row.secret, "answers": row.answers, "full_db": row.full_db,
             "result": row.result}
        )
        for row in db.scalars(query.order_by(BlindCheckRow.created_at))
    ]  # fmt: skip
    (settings().data / "incoming").mkdir(parents=True, exist_ok=True)
    target = Path(tempfile.mkdtemp(dir=settings().data / "incoming")) / "bundle.zip"
    try:
        write_bundle(
            target, session.as_treated("A"), lambda audio_id: settings().audio_folder(audio_id) / ORIGINAL, checks
        )
    except BaseException:
        shutil.rmtree(target.parent, ignore_errors=True)
        raise
    return target


def bring_in(path: Path, *, name: str) -> SessionState:
    """Make a session of a bundle, all of it or nothing; it stands beside the one that it came from.

    Raises
    ------
    BundleError: cut off, edited, made by a newer version
    AudioFileError: a file in it that cannot be taken in
    """
    taken: dict[str, TakenIn] = {}
    scratch = Path(tempfile.mkdtemp(dir=path.parent))
    try:
        with Bundle(path, name=name) as bundle:
            manifest = bundle.manifest
            for audio_id in sorted(used_audio_ids(manifest.session)):
                bundle.extract(audio_id, scratch / audio_id)
                called = manifest.session.audio[audio_id].original_name
                file = Incoming(
                    audio_id=new_id(), path=scratch / audio_id, rate_hz=manifest.session.sample_rate_hz, name=called
                )
                taken[audio_id] = take_in(file, settings().import_limits)
        with open_db() as db:
            session_id = _insert(db, manifest, taken)
            db.commit()
            return read_session(db, session_id)
    except BaseException:
        for one in taken.values():
            shutil.rmtree(settings().audio_folder(one.audio.id), ignore_errors=True)
        raise
    finally:
        shutil.rmtree(scratch, ignore_errors=True)


def _insert(db: Database, manifest: Manifest, taken: dict[str, TakenIn]) -> str:
    """Insert a session with its files and blind checks; what the files are is told as it was found here."""
    here = renamed(manifest, new_id, {old: one.audio.id for old, one in taken.items()})
    session: RecordedSession = here.session
    audio: list[AudioRow] = [audio_row(session.id, one) for one in taken.values()]
    insert_session(db, session.as_treated("A"), audio)
    for check in here.blind_checks:
        fields = check.model_dump(mode="json")
        db.add(
            BlindCheckRow(
                session_id=session.id, asked=fields["asked"], secret=fields["order"], answers=fields["answers"],
                full_db=check.full_db, result=fields["result"],
            )
        )  # fmt: skip
    return session.id
