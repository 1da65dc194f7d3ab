"""The first tables"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0001"
down_revision = None


def upgrade() -> None:
    op.create_table(
        "session",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("sample_rate_hz", sa.BigInteger(), nullable=False),
        sa.Column("loop_start_frame", sa.BigInteger(), nullable=True),
        sa.Column("loop_end_frame", sa.BigInteger(), nullable=True),
        sa.Column("revision", sa.BigInteger(), nullable=False),
        sa.Column("history_at", sa.BigInteger(), nullable=False),
        sa.Column("is_demo", sa.Boolean(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_session")),
    )
    op.create_table(
        "audio",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("session_id", sa.Text(), nullable=False),
        sa.Column("original_name", sa.Text(), nullable=False),
        sa.Column("sha256", sa.Text(), nullable=False),
        sa.Column("format", sa.Text(), nullable=False),
        sa.Column("subtype", sa.Text(), nullable=False),
        sa.Column("original_rate_hz", sa.BigInteger(), nullable=False),
        sa.Column("original_frames", sa.BigInteger(), nullable=False),
        sa.Column("n_channels", sa.BigInteger(), nullable=False),
        sa.Column("n_frames", sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(
            ["session_id"], ["session.id"], name=op.f("fk_audio_session_id_session"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_audio")),
    )
    op.create_table(
        "change",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("session_id", sa.Text(), nullable=False),
        sa.Column("number", sa.BigInteger(), nullable=False),
        sa.Column("label", sa.Text(), nullable=False),
        sa.Column("patches", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(
            ["session_id"], ["session.id"], name=op.f("fk_change_session_id_session"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_change")),
        sa.UniqueConstraint("session_id", "number", name=op.f("uq_change_session_id")),
    )
    op.create_table(
        "handover",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("session_id", sa.Text(), nullable=False),
        sa.Column("request", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("status", sa.Text(), nullable=False),
        sa.Column("progress", sa.Double(), nullable=False),
        sa.Column("message", sa.Text(), nullable=False),
        sa.Column("files", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("cancel_requested", sa.Boolean(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(
            ["session_id"], ["session.id"], name=op.f("fk_handover_session_id_session"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_handover")),
    )
    op.create_index(op.f("ix_handover_session_id"), "handover", ["session_id"], unique=False)
    op.create_table(
        "track",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("session_id", sa.Text(), nullable=False),
        sa.Column("position", sa.BigInteger(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("role", sa.Text(), nullable=False),
        sa.Column("audio_id", sa.Text(), nullable=False),
        sa.Column("start_frame", sa.BigInteger(), nullable=False),
        sa.Column("gain_db", sa.Double(), nullable=False),
        sa.Column("pan", sa.Double(), nullable=False),
        sa.Column("polarity_flipped", sa.Boolean(), nullable=False),
        sa.Column("solo", sa.Boolean(), nullable=False),
        sa.Column("mute", sa.Boolean(), nullable=False),
        sa.Column("ledger_on", sa.Boolean(), nullable=False),
        sa.Column("ledger", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("pins", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.ForeignKeyConstraint(["audio_id"], ["audio.id"], name=op.f("fk_track_audio_id_audio")),
        sa.ForeignKeyConstraint(
            ["session_id"], ["session.id"], name=op.f("fk_track_session_id_session"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_track")),
    )
    op.create_index(op.f("ix_track_session_id"), "track", ["session_id"], unique=False)


def downgrade() -> None:
    op.drop_index(op.f("ix_track_session_id"), table_name="track")
    op.drop_table("track")
    op.drop_index(op.f("ix_handover_session_id"), table_name="handover")
    op.drop_table("handover")
    op.drop_table("change")
    op.drop_table("audio")
    op.drop_table("session")
