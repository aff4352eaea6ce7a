"""Keys can end, be limited and be rotated; every write is put down."""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("keys", sa.Column("expires_at", sa.DateTime(timezone=True)))
    op.add_column("keys", sa.Column("per_minute", sa.Integer()))
    op.add_column("keys", sa.Column("previous_sha256", sa.Text()))
    op.add_column("keys", sa.Column("previous_until", sa.DateTime(timezone=True)))
    op.create_unique_constraint("uq_keys_previous_sha256", "keys", ["previous_sha256"])
    op.create_table(
        "audit",
        sa.Column("id", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.clock_timestamp()),
        sa.Column("by_key", sa.Text()),
        sa.Column("method", sa.Text(), nullable=False),
        sa.Column("path", sa.Text(), nullable=False),
        sa.Column("request_id", sa.Text(), nullable=False),
    )


def downgrade() -> None:
    op.drop_table("audit")
    op.drop_constraint("uq_keys_previous_sha256", "keys")
    for name in ("previous_until", "previous_sha256", "per_minute", "expires_at"):
        op.drop_column("keys", name)
