"""What beats what in a run; figures without an interval."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None

JSON = postgresql.JSON(astext_type=sa.Text())


def upgrade() -> None:
    op.add_column("runs", sa.Column("comparison", JSON, nullable=True))
    op.alter_column("figures", "low", nullable=True)
    op.alter_column("figures", "high", nullable=True)


def downgrade() -> None:
    op.execute("DELETE FROM figures WHERE low IS NULL OR high IS NULL")
    op.alter_column("figures", "high", nullable=False)
    op.alter_column("figures", "low", nullable=False)
    op.drop_column("runs", "comparison")
