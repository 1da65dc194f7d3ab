"""What the user said is not a fault."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0004"
down_revision = "0003"
TABLES = ("track", "track_group")


def upgrade() -> None:
    for table in TABLES:
        op.add_column(
            table, sa.Column("dismissed", postgresql.JSONB(astext_type=sa.Text()), nullable=False, server_default="[]")
        )


def downgrade() -> None:
    for table in TABLES:
        op.drop_column(table, "dismissed")
