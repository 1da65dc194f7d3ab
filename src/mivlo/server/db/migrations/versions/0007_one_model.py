"""Tracks, groups and the mix become strips of one validated JSON each; edits get ids of their own."""

from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None

TRACK = ("name", "role", "audio_id", "start_frame", "gain_db", "pan", "polarity_flipped", "solo", "mute", "ledger_on",
         "ledger", "pins", "group_id", "twin_id", "phase", "keepers", "dismissed")  # fmt: skip
GROUP = ("name", "gain_db", "solo", "mute", "ledger_on", "ledger", "phase", "keepers", "pins", "dismissed")
FACTS = ("original_name", "format", "subtype", "original_rate_hz", "original_frames", "n_channels", "n_frames")


def upgrade() -> None:
    """Carry everything over, the history of changes included."""
    op.create_table(
        "strip",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("session_id", sa.Text(), nullable=False),
        sa.Column("is_mix", sa.Boolean(), nullable=False),
        sa.Column("position", sa.BigInteger(), nullable=False),
        sa.Column("schema_version", sa.BigInteger(), nullable=False),
        sa.Column("state", JSONB(), nullable=False),
        sa.ForeignKeyConstraint(
            ["session_id"], ["session.id"], name=op.f("fk_strip_session_id_session"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_strip")),
    )
    op.create_index(op.f("ix_strip_session_id"), "strip", ["session_id"], unique=False)
    for table, kind, names, is_mix in (("track", "track", TRACK, "false"), ("track_group", "group", GROUP, "is_mix")):
        fields = ", ".join(f"'{name}', {name}" for name in ("id", *names))
        op.execute(
            f"INSERT INTO strip SELECT id, session_id, {is_mix}, position, 1, "
            f"jsonb_build_object('kind', '{kind}', {fields}) FROM {table}"
        )
    op.drop_table("track")
    op.drop_table("track_group")

    op.add_column("audio", sa.Column("facts", JSONB(), nullable=True))
    facts = ", ".join(f"'{name}', {name}" for name in ("id", *FACTS))
    op.execute(f"UPDATE audio SET facts = jsonb_build_object({facts})")
    op.alter_column("audio", "facts", nullable=False)
    for name in FACTS:
        op.drop_column("audio", name)

    op.add_column("change", sa.Column("edit_id", sa.Text(), nullable=True))
    op.add_column("change", sa.Column("author", sa.Text(), server_default="engineer", nullable=False))
    op.execute("UPDATE change SET edit_id = replace(gen_random_uuid()::text, '-', '')")
    op.alter_column("change", "edit_id", nullable=False)
    op.alter_column("change", "author", server_default=None)
    connection = op.get_bind()
    rows = connection.execute(sa.text("SELECT id, patches FROM change")).all()
    write = sa.text("UPDATE change SET patches = :patches WHERE id = :id")
    write = write.bindparams(sa.bindparam("patches", type_=JSONB()))
    for number, patches in rows:
        connection.execute(write, {"id": number, "patches": [_renewed(patch) for patch in patches]})

    op.create_table(
        "edit",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("session_id", sa.Text(), nullable=False),
        sa.Column("author", sa.Text(), nullable=False),
        sa.Column("revision", sa.BigInteger(), nullable=True),
        sa.Column("refusal", JSONB(), nullable=True),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(
            ["session_id"], ["session.id"], name=op.f("fk_edit_session_id_session"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_edit")),
    )
    op.create_index(op.f("ix_edit_session_id"), "edit", ["session_id"], unique=False)
    op.create_table(
        "draft",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("session_id", sa.Text(), nullable=False),
        sa.Column("intents", JSONB(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(
            ["session_id"], ["session.id"], name=op.f("fk_draft_session_id_session"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_draft")),
    )
    op.create_index(op.f("ix_draft_session_id"), "draft", ["session_id"], unique=False)


def _renewed(patch: dict[str, Any]) -> dict[str, Any]:
    """Return a patch of the history as one of strips: what was a whole row says its kind."""
    if patch["target"] == "session":
        return patch

    def whole(values: dict[str, Any] | None) -> dict[str, Any] | None:
        if values is None:
            return None
        kept = {name: value for name, value in values.items() if name not in ("is_mix", "session_id")}
        return {"kind": patch["target"], **kept} if "id" in kept else kept

    return {"target": "strip", "id": patch["id"], "before": whole(patch["before"]), "after": whole(patch["after"])}


def downgrade() -> None:
    """There is no way back: what strips say from now on, older tables could not hold."""
    raise RuntimeError("a session of this version cannot be opened by an older Mivlo: restore a backup instead")
