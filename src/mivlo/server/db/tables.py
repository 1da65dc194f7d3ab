"""Tables; frames are of the session's rate unless a name says otherwise."""

import uuid
from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, DateTime, ForeignKey, MetaData, Text, UniqueConstraint, func
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

__all__ = ["AudioRow", "Base", "ChangeRow", "GroupRow", "HandOverRow", "SessionRow", "TrackRow", "new_id"]


def new_id() -> str:
    """Return an id for anything we keep."""
    return uuid.uuid4().hex


class Base(DeclarativeBase):
    """Base of all tables."""

    metadata = MetaData(
        naming_convention={
            "fk": "fk_%(table_name)s_%(column_0_name)s_%(referred_table_name)s",
            "pk": "pk_%(table_name)s",
            "uq": "uq_%(table_name)s_%(column_0_name)s",
        }
    )
    type_annotation_map = {str: Text, dict[str, Any]: JSONB, list[Any]: JSONB, int: BigInteger}


class SessionRow(Base):
    """A session; `revision` counts every change of it, `history_at` how many changes are in force."""

    __tablename__ = "session"

    id: Mapped[str] = mapped_column(primary_key=True, default=new_id)
    name: Mapped[str]
    sample_rate_hz: Mapped[int]
    loop_start_frame: Mapped[int | None]
    loop_end_frame: Mapped[int | None]
    sections: Mapped[list[Any]] = mapped_column(default=list, server_default="[]")
    right_of_way: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    revision: Mapped[int] = mapped_column(default=0)
    history_at: Mapped[int] = mapped_column(default=0)
    is_demo: Mapped[bool] = mapped_column(default=False)
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())


class AudioRow(Base):
    """An imported file, kept as it came, and what it became at the session's rate."""

    __tablename__ = "audio"

    id: Mapped[str] = mapped_column(primary_key=True, default=new_id)
    session_id: Mapped[str] = mapped_column(ForeignKey("session.id", ondelete="CASCADE"))
    original_name: Mapped[str]
    sha256: Mapped[str]
    format: Mapped[str]
    subtype: Mapped[str]
    original_rate_hz: Mapped[int]
    original_frames: Mapped[int]
    n_channels: Mapped[int]
    n_frames: Mapped[int]


class TrackRow(Base):
    """A track; its ledger and pins are JSON, validated by the core's models on the way in and out."""

    __tablename__ = "track"

    id: Mapped[str] = mapped_column(primary_key=True, default=new_id)
    session_id: Mapped[str] = mapped_column(ForeignKey("session.id", ondelete="CASCADE"), index=True)
    position: Mapped[int]
    name: Mapped[str]
    role: Mapped[str]
    audio_id: Mapped[str] = mapped_column(ForeignKey("audio.id"))
    start_frame: Mapped[int] = mapped_column(default=0)
    gain_db: Mapped[float] = mapped_column(default=0.0)
    pan: Mapped[float] = mapped_column(default=0.0)
    polarity_flipped: Mapped[bool] = mapped_column(default=False)
    solo: Mapped[bool] = mapped_column(default=False)
    mute: Mapped[bool] = mapped_column(default=False)
    ledger_on: Mapped[bool] = mapped_column(default=True)
    ledger: Mapped[list[Any]] = mapped_column(default=list)
    pins: Mapped[list[Any]] = mapped_column(default=list)
    group_id: Mapped[str | None]
    twin_id: Mapped[str | None]  # the same for all tracks that share one ledger
    phase: Mapped[str] = mapped_column(default="minimum", server_default="minimum")
    keepers: Mapped[list[Any]] = mapped_column(default=list, server_default="[]")
    dismissed: Mapped[list[Any]] = mapped_column(default=list, server_default="[]")


class GroupRow(Base):
    """A group of tracks; every session has one that is the mix."""

    __tablename__ = "track_group"

    id: Mapped[str] = mapped_column(primary_key=True, default=new_id)
    session_id: Mapped[str] = mapped_column(ForeignKey("session.id", ondelete="CASCADE"), index=True)
    is_mix: Mapped[bool] = mapped_column(default=False)
    position: Mapped[int] = mapped_column(default=0)
    name: Mapped[str]
    gain_db: Mapped[float] = mapped_column(default=0.0)
    solo: Mapped[bool] = mapped_column(default=False)
    mute: Mapped[bool] = mapped_column(default=False)
    ledger_on: Mapped[bool] = mapped_column(default=True)
    ledger: Mapped[list[Any]] = mapped_column(default=list)
    phase: Mapped[str] = mapped_column(default="minimum")
    keepers: Mapped[list[Any]] = mapped_column(default=list)
    pins: Mapped[list[Any]] = mapped_column(default=list)
    dismissed: Mapped[list[Any]] = mapped_column(default=list, server_default="[]")


class ChangeRow(Base):
    """One undoable change: patches with what was before and after."""

    __tablename__ = "change"
    __table_args__ = (UniqueConstraint("session_id", "number"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    session_id: Mapped[str] = mapped_column(ForeignKey("session.id", ondelete="CASCADE"))
    number: Mapped[int]
    label: Mapped[str]
    patches: Mapped[list[Any]]
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())


class HandOverRow(Base):
    """A rendering job and its files."""

    __tablename__ = "handover"

    id: Mapped[str] = mapped_column(primary_key=True, default=new_id)
    session_id: Mapped[str] = mapped_column(ForeignKey("session.id", ondelete="CASCADE"), index=True)
    request: Mapped[dict[str, Any]]
    status: Mapped[str] = mapped_column(default="waiting")
    progress: Mapped[float] = mapped_column(default=0.0)
    message: Mapped[str] = mapped_column(default="")
    files: Mapped[list[Any]] = mapped_column(default=list)
    cancel_requested: Mapped[bool] = mapped_column(default=False)
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())
