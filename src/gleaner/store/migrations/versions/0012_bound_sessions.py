"""Sessions belong to the secret that opened them, writes to the address they came from; how often users were
forgotten."""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None


def upgrade() -> None:
    # which secret opened a session that is under way is not known: whoever is signed in signs in once more
    op.execute("DELETE FROM sessions")
    op.add_column("sessions", sa.Column("secret_sha256", sa.Text(), nullable=False))
    op.add_column("audit", sa.Column("address", sa.Text()))
    op.add_column("datasets", sa.Column("forgotten", sa.Integer(), nullable=False, server_default="0"))


def downgrade() -> None:
    op.drop_column("datasets", "forgotten")
    op.drop_column("audit", "address")
    op.drop_column("sessions", "secret_sha256")
