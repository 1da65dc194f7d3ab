"""The API and the pages as one ASGI application."""

import asyncio
import importlib
import multiprocessing
import sys
import threading
from collections.abc import AsyncIterator
from contextlib import ExitStack, asynccontextmanager, suppress
from pathlib import Path

from fastapi import FastAPI
from fastapi.responses import FileResponse
from fastapi.staticfiles import StaticFiles
from sqlalchemy.exc import SQLAlchemyError

from mivlo import __version__
from mivlo.core.analyses.registry import ANALYSES
from mivlo.core.errors import NotFoundError
from mivlo.server.access import LocalOnly
from mivlo.server.api import analyses, bench, bundles, gather, handover, kept_moves, proof, sessions, staging
from mivlo.server.api import news as news_api
from mivlo.server.api import round as round_api
from mivlo.server.api.common import add_error_handlers
from mivlo.server.db.engine import CONNECTIONS, open_db
from mivlo.server.services.sessions import list_sessions
from mivlo.server.serving import serve_on_loopback
from mivlo.server.settings import settings
from mivlo.server.with_parent import end_with_parent

__all__ = ["create_app", "first_main", "main"]


def _warm_up() -> None:
    """Build what the first session that is opened would wait for."""
    bench.about()
    for analysis in ANALYSES.values():
        if analysis.is_asked_for:
            analysis.adapter()
            analysis.shown_adapter()
    with suppress(SQLAlchemyError), ExitStack() as held:  # without a database there is nothing to be opened
        for _ in range(CONNECTIONS):  # as many questions are asked at once
            list_sessions(held.enter_context(open_db()))


@asynccontextmanager
async def _lifespan(_: FastAPI) -> AsyncIterator[None]:
    passing_on = asyncio.create_task(news_api.pass_on())
    threading.Thread(target=_warm_up, name="warm-up", daemon=True).start()
    yield
    passing_on.cancel()


def create_app(*, web: Path | None) -> FastAPI:
    """Return the application, with the built front end where there is one."""
    app = FastAPI(title="Mivlo", version=__version__, lifespan=_lifespan, docs_url=None, redoc_url=None)
    add_error_handlers(app)
    for module in (
        sessions,
        bundles,
        gather,
        staging,
        bench,
        analyses,
        round_api,
        proof,
        kept_moves,
        handover,
        news_api,
    ):
        app.include_router(module.router)
    if web is not None:
        app.mount("/assets", StaticFiles(directory=web / "assets"), name="assets")

        @app.get("/{path:path}", include_in_schema=False)
        def page(path: str) -> FileResponse:
            if path.startswith("api/"):
                raise NotFoundError(f"there is nothing at /{path:.200}")
            # Every address that is not the API's is the page's own; its router knows what to show.
            return FileResponse(web / "index.html", headers={"cache-control": "no-cache"})

    return app


def first_main() -> None:
    """Bring the data into order, then serve; what only that needs goes with a process of its own."""
    preparing = multiprocessing.get_context("fork").Process(target=_prepare)
    preparing.start()
    preparing.join()
    if preparing.exitcode:  # it has said why
        sys.exit(1)
    main()


def _prepare() -> None:
    end_with_parent()
    importlib.import_module("mivlo.server.prepare").prepare(settings().demo_folder)


def main() -> None:
    """Serve on loopback until told to stop."""
    own = settings()
    app = LocalOnly(create_app(web=own.web), own_port=own.port, page_port=own.page_port or own.port)
    serve_on_loopback(app, port=own.port, graceful_s=2)
