"""Order events and column changes by sequences of our own instead of transaction numbers of one cluster.

Transaction numbers start anew in another cluster, so events sent after a restore never reached a version. Events are
renumbered in the order in which versions took them in: those that a version holds come before those that it lacks.
"""

import sqlalchemy as sa
from alembic import op

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None

# an event is in a version only if it was received before the version was made, whatever its transaction number says:
# after a restore, numbers of the new cluster are small
RENUMBER = """
CREATE TEMPORARY TABLE renumbered ON COMMIT DROP AS
WITH thresholds AS (
    SELECT dataset_id, events_upto, min(created_at) AS made_at FROM versions GROUP BY dataset_id, events_upto
), ranked AS (
    SELECT e.seq AS old, e.dataset_id, e.xact,
        (SELECT min(t.events_upto) FROM thresholds t WHERE t.dataset_id = e.dataset_id AND e.xact <= t.events_upto
            AND e.received_at <= t.made_at) AS taken_upto
    FROM events e
)
SELECT old, dataset_id, taken_upto,
    (SELECT coalesce(max(seq), 0) FROM events)
        + row_number() OVER (ORDER BY taken_upto NULLS LAST, xact, old) AS new
FROM ranked
"""


def upgrade() -> None:
    op.execute(RENUMBER)
    op.execute("UPDATE events SET seq = renumbered.new FROM renumbered WHERE renumbered.old = events.seq")
    op.execute(
        "SELECT setval(pg_get_serial_sequence('events', 'seq'), greatest((SELECT max(seq) FROM events), 1),"
        " EXISTS (SELECT 1 FROM events))"
    )
    op.execute(
        "UPDATE versions SET events_upto = coalesce((SELECT max(new) FROM renumbered"
        " WHERE renumbered.dataset_id = versions.dataset_id AND renumbered.taken_upto <= versions.events_upto), 0)"
    )
    op.drop_index("events_in_order", "events")
    op.drop_column("events", "xact")
    op.create_index("events_in_order", "events", ["dataset_id", "seq"])

    op.execute("CREATE SEQUENCE column_changes_seq")
    op.drop_index("column_changes_in_order", "column_changes")
    op.drop_column("column_changes", "xact")
    op.add_column("column_changes", sa.Column("seq", sa.BigInteger, nullable=False, server_default="0"))
    op.execute(
        "UPDATE column_changes c SET seq = o.n FROM (SELECT dataset_id, side, row_id, name,"
        " row_number() OVER (ORDER BY at) AS n FROM column_changes) o"
        " WHERE (o.dataset_id, o.side, o.row_id, o.name) = (c.dataset_id, c.side, c.row_id, c.name)"
    )
    op.execute(
        "SELECT setval('column_changes_seq', greatest((SELECT max(seq) FROM column_changes), 1),"
        " EXISTS (SELECT 1 FROM column_changes))"
    )
    op.alter_column("column_changes", "seq", server_default=sa.text("nextval('column_changes_seq')"))
    op.create_index("column_changes_in_order", "column_changes", ["dataset_id", "seq"])
    op.add_column("versions", sa.Column("changes_upto", sa.BigInteger, nullable=False, server_default="0"))
    op.execute(
        "UPDATE versions v SET changes_upto = coalesce((SELECT max(c.seq) FROM column_changes c"
        " WHERE c.dataset_id = v.dataset_id AND c.at <= v.created_at), 0)"
    )


def downgrade() -> None:
    transaction = sa.text("pg_current_xact_id()::text::bigint")
    op.drop_column("versions", "changes_upto")
    op.drop_index("column_changes_in_order", "column_changes")
    op.drop_column("column_changes", "seq")
    op.execute("DROP SEQUENCE column_changes_seq")
    for table in ("events", "column_changes"):
        op.add_column(table, sa.Column("xact", sa.BigInteger, nullable=False, server_default=transaction))
    op.create_index("column_changes_in_order", "column_changes", ["dataset_id", "xact"])
    op.drop_index("events_in_order", "events")
    op.create_index("events_in_order", "events", ["dataset_id", "xact", "seq"])
