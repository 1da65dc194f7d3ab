"""What all routers share: the database, and errors as the API tells them."""

from collections.abc import Iterator
from typing import Annotated, Literal

from fastapi import Depends, FastAPI, Query, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from psycopg.errors import DiskFull
from pydantic import BaseModel, ValidationError
from sqlalchemy.exc import DataError, IntegrityError, OperationalError
from sqlalchemy.orm import Session

from mivlo.core.errors import MivloError
from mivlo.core.model import Treatment
from mivlo.core.treatment import explain_validation
from mivlo.server.db.engine import open_db
from mivlo.server.services.sessions import read_session
from mivlo.server.services.state import SessionState

__all__ = ["Db", "Now", "Problem", "add_error_handlers"]

STATUS_OF_CODE = {
    "bad-parameter": 422,
    "bad-treatment": 422,
    "bad-audio-file": 422,
    "bad-bundle": 422,
    "conflict": 409,
    "too-large": 413,
    "not-found": 404,
    "no-database": 503,
    "process-ended": 503,
    "disk": 507,
    "mivlo-error": 400,
}


class Problem(BaseModel):
    """What went wrong, for people (message) and programs (code)."""

    code: Literal[
        "bad-parameter",
        "bad-treatment",
        "bad-audio-file",
        "bad-bundle",
        "conflict",
        "too-large",
        "not-found",
        "no-database",
        "process-ended",
        "disk",
        "mivlo-error",
    ]
    message: str


def _database() -> Iterator[Session]:
    with open_db() as db:
        yield db


Db = Annotated[Session, Depends(_database)]


Treated = Annotated[Treatment, Query(description="which treatment this is about")]


def _session_now(session_id: str, treatment: Treated = "A") -> SessionState:
    """Read a session and let go of the connection: what is computed from it may take long."""
    with open_db() as db:
        return read_session(db, session_id).as_treated(treatment)


Now = Annotated[SessionState, Depends(_session_now)]


def _answer(code: str, message: str) -> JSONResponse:
    readable = message.encode(errors="replace").decode()  # a name that somebody sent may be no text at all
    return JSONResponse({"code": code, "message": readable}, status_code=STATUS_OF_CODE[code])


def add_error_handlers(app: FastAPI) -> None:
    """Turn the core's errors, wrong bodies, a lost database and a full disk into `Problem` answers."""

    @app.exception_handler(MivloError)
    def mivlo_error(_: Request, error: MivloError) -> JSONResponse:
        return _answer(error.code, str(error))

    @app.exception_handler(RequestValidationError)
    def bad_body(_: Request, error: RequestValidationError) -> JSONResponse:
        return _answer("bad-parameter", explain_validation(error))

    @app.exception_handler(ValidationError)
    def bad_data(_: Request, error: ValidationError) -> JSONResponse:
        return _answer("bad-parameter", explain_validation(error))

    @app.exception_handler(OperationalError)
    def no_database(_: Request, error: OperationalError) -> JSONResponse:
        if isinstance(error.orig, DiskFull):
            return _answer(
                "disk", "the disk of the data folder is full; nothing was saved by this step: make room and try again"
            )
        return _answer("no-database", "the database does not answer; nothing was saved by this step: try again")

    @app.exception_handler(DataError)
    def not_storable(_: Request, __: DataError) -> JSONResponse:
        return _answer(
            "bad-parameter", "a text holds a character, or a number is of a size, that cannot be stored; leave it out"
        )

    @app.exception_handler(IntegrityError)
    def taken(_: Request, __: IntegrityError) -> JSONResponse:
        return _answer(
            "conflict", "an id is in use already, or another change came at the same time: read the session again"
        )

    @app.exception_handler(OSError)
    def disk(_: Request, error: OSError) -> JSONResponse:
        if isinstance(error, FileNotFoundError):
            return _answer(
                "not-found", "what was asked for went away meanwhile, as treated sound does when a move changes"
            )
        return _answer("disk", f"the data folder cannot be written or read ({error.strerror or error})")
