"""Mixes of others that are kept with a session."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("session", sa.Column("references", JSONB(), server_default="[]", nullable=False))


def downgrade() -> None:
    op.drop_column("session", "references")
