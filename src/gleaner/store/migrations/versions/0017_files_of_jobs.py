"""Refer to the files that jobs made, never reuse a model's number, and tell callers apart who send the same key."""

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None

# a file that an earlier release swept away has no row, and cannot be referred to
FILES_OF_RESULTS = """
INSERT INTO job_files (job_id, part, artefact)
SELECT id, part, digest FROM (
    SELECT id, 'main' AS part, result->>'file' AS digest FROM jobs WHERE json_typeof(result) = 'object'
    UNION ALL
    SELECT id, 'left-out', result->'left_out'->>'file' FROM jobs
    WHERE json_typeof(result) = 'object' AND json_typeof(result->'left_out') = 'object'
) found
JOIN artefacts ON artefacts.sha256 = found.digest
"""


def upgrade() -> None:
    op.create_table(
        "job_files",
        sa.Column("job_id", sa.BigInteger, nullable=False),
        sa.Column("part", sa.Text, nullable=False),
        sa.Column("artefact", sa.Text, nullable=False),
        sa.Column("dataset", sa.Text),
        sa.PrimaryKeyConstraint("job_id", "part", name="pk_job_files"),
        sa.ForeignKeyConstraint(["job_id"], ["jobs.id"], name="fk_job_files_job_id", ondelete="CASCADE"),
        sa.ForeignKeyConstraint(["artefact"], ["artefacts.sha256"], name="fk_job_files_artefact"),
    )
    op.execute(FILES_OF_RESULTS)

    op.create_table(
        "model_numbers",
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("last", sa.Integer, nullable=False),
        sa.PrimaryKeyConstraint("name", name="pk_model_numbers"),
    )
    op.execute("INSERT INTO model_numbers (name, last) SELECT name, max(number) FROM models GROUP BY name")

    op.add_column("idempotency", sa.Column("caller", sa.Text, nullable=False, server_default=""))
    op.drop_constraint("pk_idempotency", "idempotency")
    op.create_primary_key("pk_idempotency", "idempotency", ["caller", "key"])
    op.create_index("ix_idempotency_created_at", "idempotency", ["created_at"])
    op.create_index("ix_audit_at", "audit", ["at"])


def downgrade() -> None:
    op.drop_index("ix_audit_at", "audit")
    op.drop_index("ix_idempotency_created_at", "idempotency")
    op.execute("DELETE FROM idempotency")
    op.drop_constraint("pk_idempotency", "idempotency")
    op.drop_column("idempotency", "caller")
    op.create_primary_key("pk_idempotency", "idempotency", ["key"])
    op.drop_table("model_numbers")
    op.drop_table("job_files")
