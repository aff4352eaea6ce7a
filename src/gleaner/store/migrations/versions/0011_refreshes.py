"""Versions made of events, and shelves that are refreshed."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSON

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("versions", sa.Column("events_upto", sa.BigInteger(), nullable=False, server_default="0"))
    op.create_table(
        "refreshes",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column("shelf_id", sa.BigInteger(), sa.ForeignKey("shelves.id"), nullable=False),
        sa.Column("due_at", sa.DateTime(timezone=True)),
        sa.Column("job_id", sa.BigInteger(), sa.ForeignKey("jobs.id"), nullable=False, unique=True),
        sa.Column("from_number", sa.Integer(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False, server_default="running"),
        sa.Column("proposal", JSON()),
        sa.Column("outcome", JSON(), nullable=False, server_default="{}"),
        sa.Column("reason", sa.Text()),
        sa.Column("published", sa.Integer()),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now()),
        sa.UniqueConstraint("shelf_id", "due_at"),
    )


def downgrade() -> None:
    op.drop_table("refreshes")
    op.drop_column("versions", "events_upto")
