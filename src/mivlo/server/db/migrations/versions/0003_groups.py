"""Groups, the mix among them; what tracks and groups need for moves of every kind."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    op.create_table(
        "track_group",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("session_id", sa.Text(), nullable=False),
        sa.Column("is_mix", sa.Boolean(), nullable=False),
        sa.Column("position", sa.BigInteger(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("gain_db", sa.Double(), nullable=False),
        sa.Column("solo", sa.Boolean(), nullable=False),
        sa.Column("mute", sa.Boolean(), nullable=False),
        sa.Column("ledger_on", sa.Boolean(), nullable=False),
        sa.Column("ledger", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("phase", sa.Text(), nullable=False),
        sa.Column("keepers", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("pins", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.ForeignKeyConstraint(
            ["session_id"], ["session.id"], name=op.f("fk_track_group_session_id_session"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_track_group")),
    )
    op.create_index(op.f("ix_track_group_session_id"), "track_group", ["session_id"], unique=False)
    op.execute(
        "INSERT INTO track_group SELECT replace(gen_random_uuid()::text, '-', ''), id, true, 0, 'Mix', 0, false, "
        "false, true, '[]', 'minimum', '[]', '[]' FROM session"
    )
    op.add_column("track", sa.Column("group_id", sa.Text(), nullable=True))
    op.add_column("track", sa.Column("twin_id", sa.Text(), nullable=True))
    op.add_column("track", sa.Column("phase", sa.Text(), nullable=False, server_default="minimum"))
    op.add_column(
        "track", sa.Column("keepers", postgresql.JSONB(astext_type=sa.Text()), nullable=False, server_default="[]")
    )


def downgrade() -> None:
    for column in ("keepers", "phase", "twin_id", "group_id"):
        op.drop_column("track", column)
    op.drop_index(op.f("ix_track_group_session_id"), table_name="track_group")
    op.drop_table("track_group")
