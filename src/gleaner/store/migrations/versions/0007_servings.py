"""Which version of a shelf was served when."""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "shelf_servings",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column("shelf_id", sa.BigInteger, sa.ForeignKey("shelves.id"), nullable=False),
        sa.Column("number", sa.Integer, nullable=False),
        sa.Column("how", sa.Text, nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now()),
    )
    op.create_index("shelf_servings_by_shelf", "shelf_servings", ["shelf_id", "id"])
    op.execute(
        "INSERT INTO shelf_servings (shelf_id, number, how, at) "
        "SELECT shelf_id, number, 'published', published_at FROM shelf_versions ORDER BY id"
    )


def downgrade() -> None:
    op.drop_table("shelf_servings")
