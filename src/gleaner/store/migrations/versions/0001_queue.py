"""The job queue's own tables and functions, as its library defines them."""

from alembic import op
from procrastinate.schema import SchemaManager

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Run the library's schema script whole: the driver takes several statements in one go without parameters."""
    driver = op.get_bind().connection.driver_connection
    assert driver is not None
    driver.cursor().execute(SchemaManager.get_schema())


def downgrade() -> None:
    """The queue is never taken out alone."""
    raise RuntimeError("the first migration cannot be undone; drop the database instead")
