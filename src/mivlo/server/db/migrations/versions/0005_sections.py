"""Named passages of the song."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    op.add_column(
        "session", sa.Column("sections", postgresql.JSONB(astext_type=sa.Text()), nullable=False, server_default="[]")
    )


def downgrade() -> None:
    op.drop_column("session", "sections")
