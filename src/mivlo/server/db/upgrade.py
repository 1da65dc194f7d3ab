"""Bringing the database to the newest form."""

from importlib import resources

from alembic import command
from alembic.config import Config

from mivlo.server.db.engine import engine

__all__ = ["alembic_config", "migrate"]


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
