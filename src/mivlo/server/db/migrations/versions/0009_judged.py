"""What was judged of the round."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("session", sa.Column("judged", JSONB(), server_default="[]", nullable=False))


def downgrade() -> None:
    op.drop_column("session", "judged")
