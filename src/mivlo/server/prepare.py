"""Bringing the data into order before anything is served: migrations, what killed processes left, the demo."""

import importlib
from pathlib import Path

from mivlo.server.db.engine import is_newest, open_db
from mivlo.server.services.demo import load_demo
from mivlo.server.services.storage import sweep
from mivlo.server.settings import settings

__all__ = ["prepare"]

DEMO_DONE = "demo-loaded"


def prepare(demo_folder: Path | None) -> None:
    """Bring the database to the newest form, sweep, and load the made-up session where it never was."""
    if not is_newest():
        _report("bringing the database up to date")
        importlib.import_module("mivlo.server.db.upgrade").migrate()
    loaded = settings().data / DEMO_DONE
    with open_db() as db:
        sweep(db)
        if demo_folder is not None and not loaded.exists():
            _report("loading the demo session (once)")
            load_demo(db, demo_folder)
            loaded.touch()


def _report(step: str) -> None:
    print(f"mivlo: {step}", flush=True)
