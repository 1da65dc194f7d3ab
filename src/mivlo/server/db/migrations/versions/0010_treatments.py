"""Treatments beside the first; what they hold of a strip stands in its state."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    only_a = '[{"letter": "A", "name": ""}]'
    op.add_column("session", sa.Column("treatments", JSONB(), server_default=only_a, nullable=False))


def downgrade() -> None:
    op.drop_column("session", "treatments")
