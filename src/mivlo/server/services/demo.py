"""The made-up session that a fresh installation shows."""

import json
import shutil
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from mivlo.server.db.tables import SessionRow, new_id
from mivlo.server.services.imports import Incoming, audio_row, take_in
from mivlo.server.services.sessions import add_track, create_session
from mivlo.server.settings import settings

__all__ = ["load_demo"]


def load_demo(db: Session, folder: Path) -> None:
    """Import the demo session; where a first try was cut short, what it left is replaced."""
    for row in db.scalars(select(SessionRow).where(SessionRow.is_demo)):
        db.delete(row)
    db.commit()
    plan = json.loads((folder / "session.json").read_text(encoding="utf-8"))
    session = create_session(db, name=plan["name"], sample_rate_hz=plan["sample_rate_hz"], is_demo=True)
    row = db.get_one(SessionRow, session.id)
    row.sections = [section | {"id": new_id()} for section in plan["sections"]]
    db.commit()
    incoming = settings().data / "incoming"
    incoming.mkdir(parents=True, exist_ok=True)
    for track in plan["tracks"]:
        copy = incoming / new_id()
        shutil.copyfile(folder / "tracks" / track["file"], copy)
        rate_hz = session.sample_rate_hz
        file = Incoming(audio_id=new_id(), path=copy, rate_hz=rate_hz, name=track["file"])
        audio = audio_row(session.id, take_in(file, settings().import_limits))
        add_track(
            db, audio, name=track["name"], role=track["role"], start_frame=track["start_frame"],
            gain_db=track["gain_db"], pan=track["pan"],
        )  # fmt: skip
