"""Events, and cells of items and users that changed since a version was made."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None

TRANSACTION = sa.text("pg_current_xact_id()::text::bigint")


def upgrade() -> None:
    op.create_table(
        "events",
        sa.Column("seq", sa.BigInteger(), sa.Identity(), primary_key=True),
        sa.Column("dataset_id", sa.BigInteger(), sa.ForeignKey("datasets.id"), nullable=False),
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("source", sa.Text(), nullable=False),
        sa.Column("user_id", sa.Text(), nullable=False),
        sa.Column("item_id", sa.Text(), nullable=False),
        sa.Column("kind", sa.Text()),
        sa.Column("value", sa.Double()),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("list_id", sa.Text()),
        sa.Column("received_at", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now()),
        sa.Column("xact", sa.BigInteger(), nullable=False, server_default=TRANSACTION),
        sa.UniqueConstraint("dataset_id", "source", "id", name="uq_events_dataset_id_source_id"),
    )
    op.create_index("events_in_order", "events", ["dataset_id", "xact", "seq"])
    op.create_index("events_of_user", "events", ["dataset_id", "user_id"])
    op.create_index("events_of_list", "events", ["list_id"], postgresql_where=sa.text("list_id IS NOT NULL"))
    op.create_table(
        "column_changes",
        sa.Column("dataset_id", sa.BigInteger(), sa.ForeignKey("datasets.id"), primary_key=True),
        sa.Column("side", sa.Text(), primary_key=True),
        sa.Column("row_id", sa.Text(), primary_key=True),
        sa.Column("name", sa.Text(), primary_key=True),
        sa.Column("value", postgresql.JSON(astext_type=sa.Text())),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.clock_timestamp()),
        sa.Column("xact", sa.BigInteger(), nullable=False, server_default=TRANSACTION),
    )
    op.create_index("column_changes_in_order", "column_changes", ["dataset_id", "xact"])


def downgrade() -> None:
    op.drop_table("column_changes")
    op.drop_table("events")
