"""What goes with an event, such as the device it came from."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSON

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("events", sa.Column("context", JSON))


def downgrade() -> None:
    op.drop_column("events", "context")
