"""The job queue's own tables, from its package (pinned in requirements.lock)."""

from alembic import op
from procrastinate.schema import SchemaManager

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    # On the driver's own cursor: the package's SQL holds per cent signs that are no placeholders.
    op.get_bind().connection.cursor().execute(SchemaManager.get_schema())


def downgrade() -> None:
    op.execute("DROP SCHEMA public CASCADE; CREATE SCHEMA public")
