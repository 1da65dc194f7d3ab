"""Connections to the database."""

import time
from functools import lru_cache
from importlib import resources
from typing import Any

import psycopg
from sqlalchemy import Engine, create_engine, text
from sqlalchemy.orm import Session, sessionmaker

from mivlo.server.settings import settings

CONNECTIONS = 5  # kept; more are made where they are needed
LATE_S = 1.0  # a server that still runs says by itself that a statement took too long

__all__ = ["CONNECTIONS", "engine", "is_newest", "open_db"]


class PatientConnection(psycopg.Connection[Any]):
    """A connection that waits for an answer for so long and no longer: a server that is frozen cannot even say that a
    statement took too long."""

    def wait(self, gen: Any, interval: float = 0.1, timeout: float | None = None) -> Any:
        """Wait for an answer; raises OperationalError where none comes in time."""
        limit_s = settings().statement_s + LATE_S if timeout is None else timeout
        began_s = time.monotonic()
        try:
            return super().wait(gen, interval=interval, timeout=limit_s)
        except psycopg.OperationalError:
            if time.monotonic() - began_s >= limit_s:
                self.pgconn.finish()  # in a state that nobody knows
            raise


@lru_cache
def engine() -> Engine:
    """Return this process's pool of connections; a lost one is noticed before it is used, and none is waited for for
    good."""

    def connect() -> PatientConnection:
        options = f"-c statement_timeout={1_000 * settings().statement_s:.0f}ms"
        return PatientConnection.connect(settings().conninfo, options=options)

    own = settings()
    patience_s = own.statement_s + LATE_S
    return create_engine(
        own.database_url, creator=connect, pool_pre_ping=True, pool_size=CONNECTIONS, pool_timeout=patience_s
    )


def open_db() -> Session:
    """Return a database session, to be used in a `with`."""
    return sessionmaker(engine(), expire_on_commit=False)()


def is_newest() -> bool:
    """Tell whether the database has the newest form; what brings it there takes longer to load than this."""
    folder = resources.files("mivlo.server.db") / "migrations" / "versions"
    newest = max(one.name.partition("_")[0] for one in folder.iterdir() if one.name.endswith(".py"))
    with engine().connect() as connection:
        if connection.scalar(text("SELECT to_regclass('alembic_version')")) is None:
            return False
        return bool(connection.scalar(text("SELECT version_num FROM alembic_version")) == newest)
