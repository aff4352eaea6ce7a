"""Models without a contest: trained alone, refreshed, brought in; the rounds of a fit."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None

JSON = postgresql.JSON(astext_type=sa.Text())


def upgrade() -> None:
    op.alter_column("models", "standing_id", nullable=True)
    op.alter_column("models", "version_id", nullable=True)
    op.add_column("models", sa.Column("story", JSON, server_default="{}", nullable=False))
    op.create_table(
        "rounds",
        sa.Column("id", sa.BigInteger(), sa.Identity(), nullable=False),
        sa.Column("job_id", sa.BigInteger(), nullable=False),
        sa.Column("contender", sa.Text(), nullable=False),
        sa.Column("part", sa.Text(), nullable=False),
        sa.Column("round", JSON, nullable=False),
        sa.ForeignKeyConstraint(["job_id"], ["jobs.id"], name=op.f("fk_rounds_job_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_rounds")),
    )
    op.create_index(op.f("ix_rounds_job_id"), "rounds", ["job_id"])


def downgrade() -> None:
    raise RuntimeError("what this migration brought together cannot be taken apart; restore a backup instead")
