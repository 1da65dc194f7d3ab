"""Moves that are kept under a name, over all sessions: written down, found again, taken out."""

from pydantic import BaseModel, ConfigDict, Field
from sqlalchemy import select
from sqlalchemy.orm import Session as Database

from mivlo.core.errors import NotFoundError
from mivlo.core.model.base import Name
from mivlo.core.roles import Role
from mivlo.core.treatment import Treatment
from mivlo.server.db.tables import KeptMovesRow

__all__ = ["KeptMoves", "NewKeptMoves", "keep", "kept_moves", "list_kept", "remove"]


class NewKeptMoves(BaseModel):
    """Moves with a name, the role of what they are for, a remark, and what they were found on (none: a file)."""

    model_config = ConfigDict(extra="forbid")

    name: Name = Field(min_length=1, max_length=120)
    role: Role = "other"
    remark: str = Field(default="", max_length=2_000)
    found_on: str = Field(default="", max_length=120)
    treatment: Treatment


class KeptMoves(NewKeptMoves):
    """The same, under an id."""

    id: str


def keep(db: Database, new: NewKeptMoves) -> KeptMoves:
    """Write moves down. Raises nothing."""
    row = KeptMovesRow(**new.model_dump(mode="json"))
    db.add(row)
    db.commit()
    return _as_model(row)


def list_kept(db: Database) -> list[KeptMoves]:
    """Return all that is kept, by name. Raises nothing."""
    return [_as_model(row) for row in db.scalars(select(KeptMovesRow).order_by(KeptMovesRow.name, KeptMovesRow.id))]


def kept_moves(db: Database, kept_id: str) -> KeptMoves:
    """Return what is kept under an id; raises NotFoundError."""
    return _as_model(_row(db, kept_id))


def remove(db: Database, kept_id: str) -> None:
    """Keep something no longer; raises NotFoundError."""
    db.delete(_row(db, kept_id))
    db.commit()


def _row(db: Database, kept_id: str) -> KeptMovesRow:
    row = db.get(KeptMovesRow, kept_id)
    if row is None:
        raise NotFoundError(f"kept moves {kept_id:.80} are not there (any more)")
    return row


def _as_model(row: KeptMovesRow) -> KeptMoves:
    return KeptMoves.model_validate({name: getattr(row, name) for name in KeptMoves.model_fields})
