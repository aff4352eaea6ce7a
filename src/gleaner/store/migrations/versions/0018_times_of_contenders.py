"""What a run was counted to take, and what each of its contenders took."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSON

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("runs", sa.Column("expected_times", JSON))
    op.add_column("standings", sa.Column("elapsed_seconds", sa.Double))


def downgrade() -> None:
    op.drop_column("standings", "elapsed_seconds")
    op.drop_column("runs", "expected_times")
