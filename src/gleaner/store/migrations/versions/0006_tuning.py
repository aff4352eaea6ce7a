"""Attempts of tuned contenders, own preparations, learning curves, the time of one list."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None

JSON = postgresql.JSON(astext_type=sa.Text())


def upgrade() -> None:
    op.create_table(
        "attempts",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column("run_id", sa.BigInteger, sa.ForeignKey("runs.id", ondelete="CASCADE"), nullable=False),
        sa.Column("contender", sa.Text, nullable=False),
        sa.Column("number", sa.Integer, nullable=False),
        sa.Column("attempt", JSON, nullable=False),
        sa.UniqueConstraint("run_id", "contender", "number"),
    )
    op.add_column("standings", sa.Column("list_ms", sa.Double, nullable=True))
    op.add_column("standings", sa.Column("prepare", JSON, nullable=True))
    op.add_column("standings", sa.Column("tuning", JSON, nullable=True))
    op.add_column("standings", sa.Column("amounts", JSON, nullable=False, server_default="[]"))


def downgrade() -> None:
    for name in ("amounts", "tuning", "prepare", "list_ms"):
        op.drop_column("standings", name)
    op.drop_table("attempts")
