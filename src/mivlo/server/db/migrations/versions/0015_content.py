"""Products say what they hang on by what their files hold: the same files in another session need no second look."""

import sqlalchemy as sa
from alembic import op

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("product", sa.Column("content", sa.Text()))
    op.create_index("ix_product_content", "product", ["content"])


def downgrade() -> None:
    op.drop_index("ix_product_content", table_name="product")
    op.drop_column("product", "content")
