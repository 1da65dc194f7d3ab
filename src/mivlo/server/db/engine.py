"""Connections, and bringing the database to the newest form."""

from functools import lru_cache
from importlib import resources

from alembic import command
from alembic.config import Config
from sqlalchemy import Engine, create_engine
from sqlalchemy.orm import Session, sessionmaker

from mivlo.server.settings import settings

__all__ = ["alembic_config", "engine", "migrate", "open_db"]


@lru_cache
def engine() -> Engine:
    """Return this process's pool of connections; a lost one is noticed before it is used."""
    return create_engine(settings().database_url, pool_pre_ping=True, pool_size=5)


def open_db() -> Session:
    """Return a database session, to be used in a `with`."""
    return sessionmaker(engine(), expire_on_commit=False)()


def alembic_config() -> Config:
    """Return Alembic's configuration without a file of its own."""
    config = Config()
    config.set_main_option("script_location", str(resources.files("mivlo.server.db") / "migrations"))
    config.set_main_option("path_separator", "os")
    return config


def migrate() -> None:
    """Bring the database to the newest form."""
    with engine().begin() as connection:
        config = alembic_config()
        config.attributes["connection"] = connection
        command.upgrade(config, "head")
