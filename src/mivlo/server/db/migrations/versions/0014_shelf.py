"""Deleted sessions stay on a shelf for a while."""

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("session", sa.Column("shelved_at", sa.DateTime(timezone=True)))


def downgrade() -> None:
    op.execute("DELETE FROM session WHERE shelved_at IS NOT NULL")
    op.drop_column("session", "shelved_at")
