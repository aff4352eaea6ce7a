"""Versions keep their import report, context columns, parts, scale and activity; they can be removed."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None

JSON = postgresql.JSON(astext_type=sa.Text())
REPORT = """
UPDATE versions SET report = json_build_object(
    'strictness', 'normal', 'files', '[]'::json,
    'findings', coalesce((
        SELECT json_agg(json_build_object(
            'code', 'note', 'level', note ->> 'level', 'text', note ->> 'text', 'examples', note -> 'examples'))
        FROM json_array_elements(notes) AS note), '[]'::json))
"""


def upgrade() -> None:
    op.add_column("versions", sa.Column("report", JSON, nullable=True))
    op.execute(REPORT)
    op.alter_column("versions", "report", nullable=False)
    op.drop_column("versions", "notes")
    op.add_column("versions", sa.Column("request", JSON, server_default="{}", nullable=False))
    op.add_column("versions", sa.Column("context_columns", JSON, server_default="[]", nullable=False))
    op.add_column("versions", sa.Column("parts", JSON, server_default="{}", nullable=False))
    op.add_column("versions", sa.Column("scale", JSON, nullable=True))
    op.add_column("versions", sa.Column("base", sa.Integer(), nullable=True))
    op.add_column("versions", sa.Column("forgotten", sa.Integer(), server_default="0", nullable=False))
    op.add_column("versions", sa.Column("removed_at", sa.DateTime(timezone=True), nullable=True))
    op.alter_column("versions", "interactions_file", nullable=True)
    for name in ("user_activity_file", "item_activity_file"):
        op.add_column("versions", sa.Column(name, sa.Text(), nullable=True))
        key = op.f(f"fk_versions_{name}")
        op.create_foreign_key(key, "versions", "artefacts", [name], ["sha256"])


def downgrade() -> None:
    raise RuntimeError("what this migration brought together cannot be taken apart; restore a backup instead")
