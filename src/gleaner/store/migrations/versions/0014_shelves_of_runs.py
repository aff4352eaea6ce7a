"""What shelves that a contest names came to is kept with its run."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSON

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("runs", sa.Column("shelves", JSON, nullable=False, server_default="[]"))


def downgrade() -> None:
    op.drop_column("runs", "shelves")
