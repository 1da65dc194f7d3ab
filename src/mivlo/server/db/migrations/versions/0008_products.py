"""What is computed is kept as products, hand-overs among them."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "product",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("session_id", sa.Text(), nullable=False),
        sa.Column("strip_id", sa.Text(), nullable=True),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("params", sa.Text(), nullable=False),
        sa.Column("audio_ids", JSONB(), nullable=False),
        sa.Column("status", sa.Text(), nullable=False),
        sa.Column("priority", sa.BigInteger(), nullable=False),
        sa.Column("foreseen", sa.Boolean(), nullable=False),
        sa.Column("progress", sa.Double(), nullable=False),
        sa.Column("worker", sa.Text(), nullable=True),
        sa.Column("tries", sa.BigInteger(), nullable=False),
        sa.Column("cancel_requested", sa.Boolean(), nullable=False),
        sa.Column("code", sa.Text(), nullable=True),
        sa.Column("reason", sa.Text(), nullable=True),
        sa.Column("result", sa.Text(), nullable=True),
        sa.Column("bytes", sa.BigInteger(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("used_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(
            ["session_id"], ["session.id"], name=op.f("fk_product_session_id_session"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_product")),
    )
    op.create_index(op.f("ix_product_session_id"), "product", ["session_id"], unique=False)
    op.create_table(
        "product_need",
        sa.Column("product_id", sa.Text(), nullable=False),
        sa.Column("need_id", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(
            ["product_id"], ["product.id"], name=op.f("fk_product_need_product_id_product"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["need_id"], ["product.id"], name=op.f("fk_product_need_need_id_product"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("product_id", "need_id", name=op.f("pk_product_need")),
    )
    op.create_index(op.f("ix_product_need_need_id"), "product_need", ["need_id"], unique=False)
    op.create_table(
        "product_want",
        sa.Column("product_id", sa.Text(), nullable=False),
        sa.Column("wanter", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(
            ["product_id"], ["product.id"], name=op.f("fk_product_want_product_id_product"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("product_id", "wanter", name=op.f("pk_product_want")),
    )
    op.create_index(op.f("ix_product_want_wanter"), "product_want", ["wanter"], unique=False)

    # What was under way when the older version ended is told as cancelled: nothing of it was kept.
    op.execute(
        "INSERT INTO product (id, session_id, kind, params, audio_ids, status, priority, foreseen, progress, tries, "
        "cancel_requested, reason, result, bytes, created_at, ended_at) "
        "SELECT id, session_id, 'hand-over', request::text, '[]', "
        "CASE WHEN status IN ('waiting', 'running') THEN 'cancelled' ELSE status END, 20, false, progress, 1, false, "
        "message, CASE WHEN status = 'done' THEN jsonb_build_object('files', files)::text END, 0, created_at, "
        "created_at FROM handover"
    )
    op.execute("DELETE FROM procrastinate_jobs WHERE task_name = 'hand_over'")
    op.drop_index(op.f("ix_handover_session_id"), table_name="handover")
    op.drop_table("handover")


def downgrade() -> None:
    """There is no way back: an older version would not find its hand-overs."""
    raise RuntimeError("a data folder of this version cannot be opened by an older Mivlo: restore a backup instead")
