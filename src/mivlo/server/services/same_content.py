"""Products that hang on the same by what their files hold: what was computed in one session stands for the other."""

import hashlib

from sqlalchemy import select
from sqlalchemy.orm import Session as Database

from mivlo.core.analyses.base import KEY_BYTES, AnyAnalysis
from mivlo.server.db.tables import AudioRow, ProductRow, SessionRow

__all__ = ["content_of", "twin_of"]


def content_of(db: Database, row: ProductRow, analysis: AnyAnalysis) -> str | None:
    """Return what a product hangs on, by what its files hold; None where it is made of anything but files."""
    files = select(AudioRow.id, AudioRow.sha256, SessionRow.sample_rate_hz).join(SessionRow)
    found = db.execute(files.where(AudioRow.id.in_(row.audio_ids))).all()
    if not found or len(found) != len(row.audio_ids):
        return None
    text = f"{analysis.name} {analysis.version} {row.params}"
    for audio_id, sha256, rate_hz in found:
        text = text.replace(audio_id, f"{sha256} at {rate_hz}")
    return hashlib.blake2b(text.encode(), digest_size=KEY_BYTES).hexdigest()


def twin_of(db: Database, row: ProductRow, content: str) -> ProductRow | None:
    """Return a product that is kept and hangs on the same; None where there is none that could stand for this one."""
    same = select(ProductRow).where(ProductRow.content == content, ProductRow.status == "done", ProductRow.id != row.id)
    twin = db.scalar(same.order_by(ProductRow.ended_at.desc()).limit(1))
    # What names its own files would name those of another session.
    is_own = twin is not None and any(one in (twin.result or "") for one in twin.audio_ids)
    return None if is_own else twin
