"""Tables; frames are of the session's rate unless a name says otherwise."""

import uuid
from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, DateTime, ForeignKey, Index, MetaData, Text, UniqueConstraint, func
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

__all__ = [
    "AudioRow", "Base", "BlindCheckRow", "ChangeRow", "DraftRow", "EditRow", "KeptMovesRow", "ProductNeedRow",
    "ProductRow", "ProductWantRow", "SessionRow", "StripRow", "new_id",
]  # fmt: skip


def new_id() -> str:
    """Return an id for anything we keep."""
    return uuid.uuid4().hex


def _only_a() -> list[Any]:
    return [{"letter": "A", "name": ""}]


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
    judged: Mapped[list[Any]] = mapped_column(default=list, server_default="[]")
    treatments: Mapped[list[Any]] = mapped_column(default=_only_a, server_default='[{"letter": "A", "name": ""}]')
    references: Mapped[list[Any]] = mapped_column(default=list, server_default="[]")
    revision: Mapped[int] = mapped_column(default=0)
    history_at: Mapped[int] = mapped_column(default=0)
    is_demo: Mapped[bool] = mapped_column(default=False)
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())
    shelved_at: Mapped[datetime | None] = mapped_column(DateTime(timezone=True))  # deleted, and can still come back


class AudioRow(Base):
    """An imported file, kept as it came; `facts` says what it is and what it became at the session's rate."""

    __tablename__ = "audio"

    id: Mapped[str] = mapped_column(primary_key=True, default=new_id)
    session_id: Mapped[str] = mapped_column(ForeignKey("session.id", ondelete="CASCADE"))
    sha256: Mapped[str]
    facts: Mapped[dict[str, Any]]


class StripRow(Base):
    """A track, a group or the mix; `state` is the core's model of it, of the version of its schema."""

    __tablename__ = "strip"

    id: Mapped[str] = mapped_column(primary_key=True, default=new_id)
    session_id: Mapped[str] = mapped_column(ForeignKey("session.id", ondelete="CASCADE"), index=True)
    is_mix: Mapped[bool] = mapped_column(default=False)
    position: Mapped[int] = mapped_column(default=0)
    schema_version: Mapped[int]
    state: Mapped[dict[str, Any]]


class ChangeRow(Base):
    """One undoable change: patches with what was before and after; `edit_id` is the edit that made it."""

    __tablename__ = "change"
    __table_args__ = (UniqueConstraint("session_id", "number"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    session_id: Mapped[str] = mapped_column(ForeignKey("session.id", ondelete="CASCADE"))
    number: Mapped[int]
    edit_id: Mapped[str]
    author: Mapped[str]
    label: Mapped[str]
    patches: Mapped[list[Any]]
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())


class EditRow(Base):
    """An edit that was answered, under the id that its author gave it: asked again, it is answered alike."""

    __tablename__ = "edit"

    id: Mapped[str] = mapped_column(primary_key=True)
    session_id: Mapped[str] = mapped_column(ForeignKey("session.id", ondelete="CASCADE"), index=True)
    author: Mapped[str]
    revision: Mapped[int | None]  # at which it stands in the session; None where it was refused
    refusal: Mapped[dict[str, Any] | None] = mapped_column(JSONB(none_as_null=True))
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())


class DraftRow(Base):
    """Intents that are heard and not taken, as long as somebody holds a button."""

    __tablename__ = "draft"

    id: Mapped[str] = mapped_column(primary_key=True)
    session_id: Mapped[str] = mapped_column(ForeignKey("session.id", ondelete="CASCADE"), index=True)
    intents: Mapped[list[Any]]
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())


class BlindCheckRow(Base):
    """A blind check: what is asked, in which secret order, what was answered, and (at the end) what it showed."""

    __tablename__ = "blind_check"

    id: Mapped[str] = mapped_column(primary_key=True, default=new_id)
    session_id: Mapped[str] = mapped_column(ForeignKey("session.id", ondelete="CASCADE"), index=True)
    asked: Mapped[dict[str, Any]]
    secret: Mapped[dict[str, Any]]
    answers: Mapped[dict[str, Any]] = mapped_column(default=dict)
    full_db: Mapped[float]
    result: Mapped[dict[str, Any] | None] = mapped_column(JSONB(none_as_null=True))
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())


class KeptMovesRow(Base):
    """Moves that are kept under a name, over all sessions; as a treatment file holds them."""

    __tablename__ = "kept_moves"

    id: Mapped[str] = mapped_column(primary_key=True, default=new_id)
    name: Mapped[str]
    role: Mapped[str]
    remark: Mapped[str]
    found_on: Mapped[str]
    treatment: Mapped[dict[str, Any]]
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())


class ProductRow(Base):
    """Something that is computed once, or rendered: its status while it is under way, and what came of it.

    `id` is made of all that the result hangs on; of a hand-over it is its own. While it is to be computed, `params`
    holds its figures. `audio_ids` are the files that it was made from; `content` says all that it hangs on by what
    these hold, so that it is the same for the same files in another session.
    """

    __tablename__ = "product"
    __table_args__ = (Index("ix_product_content", "content"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    session_id: Mapped[str] = mapped_column(ForeignKey("session.id", ondelete="CASCADE"), index=True)
    strip_id: Mapped[str | None]
    kind: Mapped[str]
    params: Mapped[str]
    audio_ids: Mapped[list[Any]] = mapped_column(default=list)
    content: Mapped[str | None]
    status: Mapped[str]  # waiting, running, done, failed, cancelled
    priority: Mapped[int]
    foreseen: Mapped[bool] = mapped_column(default=False)  # the session needs it, whether anybody asks or not
    progress: Mapped[float] = mapped_column(default=0.0)
    worker: Mapped[str | None]
    tries: Mapped[int] = mapped_column(default=0)
    cancel_requested: Mapped[bool] = mapped_column(default=False)
    code: Mapped[str | None]  # of what went wrong
    reason: Mapped[str | None]
    result: Mapped[str | None]
    bytes: Mapped[int] = mapped_column(default=0)
    created_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())
    ended_at: Mapped[datetime | None] = mapped_column(DateTime(timezone=True))
    used_at: Mapped[datetime] = mapped_column(DateTime(timezone=True), server_default=func.now())


class ProductNeedRow(Base):
    """A product that waits for another one, which is not there yet."""

    __tablename__ = "product_need"

    product_id: Mapped[str] = mapped_column(ForeignKey("product.id", ondelete="CASCADE"), primary_key=True)
    need_id: Mapped[str] = mapped_column(ForeignKey("product.id", ondelete="CASCADE"), primary_key=True, index=True)


class ProductWantRow(Base):
    """Somebody who waits for a product that is not there yet: a page, or what plays to one."""

    __tablename__ = "product_want"

    product_id: Mapped[str] = mapped_column(ForeignKey("product.id", ondelete="CASCADE"), primary_key=True)
    wanter: Mapped[str] = mapped_column(primary_key=True, index=True)
