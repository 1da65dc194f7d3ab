"""Blind checks and what they showed."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "blind_check",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("session_id", sa.Text(), nullable=False),
        sa.Column("asked", JSONB(), nullable=False),
        sa.Column("secret", JSONB(), nullable=False),
        sa.Column("answers", JSONB(), nullable=False),
        sa.Column("full_db", sa.Float(), nullable=False),
        sa.Column("result", JSONB(none_as_null=True), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(
            ["session_id"], ["session.id"], name=op.f("fk_blind_check_session_id_session"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_blind_check")),
    )
    op.create_index(op.f("ix_blind_check_session_id"), "blind_check", ["session_id"])


def downgrade() -> None:
    op.drop_table("blind_check")
