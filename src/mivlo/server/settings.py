"""What can be configured, by environment variables that begin with MIVLO_."""

from functools import lru_cache
from pathlib import Path

from pydantic import Field
from pydantic_settings import BaseSettings, SettingsConfigDict

from mivlo.core.audiofile import ImportLimits

__all__ = ["Settings", "settings"]


_LIMITS = ImportLimits()


class Settings(BaseSettings):
    """The application's settings; the supervisor hands them to its processes."""

    model_config = SettingsConfigDict(env_prefix="MIVLO_")

    data: Path = Field(description="data folder")
    database_url: str = Field(description="SQLAlchemy address of the database")
    port: int = 8765
    monitor_port: int = 8766
    page_port: int | None = Field(default=None, description="whose pages may ask; our own where not said")
    web: Path | None = Field(default=None, description="built front end; none in server tests")
    demo_folder: Path | None = Field(default=None, description="made-up session to be loaded once")
    max_import_seconds: float = _LIMITS.max_seconds
    max_import_bytes: int = _LIMITS.max_bytes
    workers: int = Field(default=2, description="processes that analyse and render")
    foresees: bool = Field(default=True, description="listen in the background to what sessions need")
    product_bytes: int = Field(default=20 << 30, description="what computed things may take of the disk")
    connect_s: int = Field(default=5, description="within which the database must let us in")
    statement_s: float = Field(default=30.0, description="within which it must answer")

    @property
    def conninfo(self) -> str:
        """Return the database's address as psycopg itself wants it."""
        address = self.database_url.replace("postgresql+psycopg://", "postgresql://")
        return f"{address}{'&' if '?' in address else '?'}connect_timeout={self.connect_s}"

    @property
    def import_limits(self) -> ImportLimits:
        """Return what imports are held to."""
        return ImportLimits(max_seconds=self.max_import_seconds, max_bytes=self.max_import_bytes)

    def audio_folder(self, audio_id: str) -> Path:
        """Return where one imported file lives; ids are ours, never a user's words."""
        return self.data / "audio" / audio_id

    def product_folder(self, product_id: str) -> Path:
        """Return where the files of what was computed lie."""
        return self.data / "products" / product_id

    def handover_folder(self, handover_id: str) -> Path:
        """Return where the files of one hand-over are written."""
        return self.data / "handover" / handover_id


@lru_cache
def settings() -> Settings:
    """Return the settings of this process."""
    return Settings()
