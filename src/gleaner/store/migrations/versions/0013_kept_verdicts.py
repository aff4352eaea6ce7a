"""Verdicts against the baseline, as all pairs of a run together allow them, are kept with the standings."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSON

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None

RUNS = sa.table("runs", sa.column("id", sa.BigInteger), sa.column("comparison", JSON))
STANDINGS = sa.table(
    "standings",
    sa.column("id", sa.BigInteger),
    sa.column("run_id", sa.BigInteger),
    sa.column("contender", sa.Text),
    sa.column("against_popular", JSON),
)
TURNED = {"better": "worse", "worse": "better", "cannot tell": "cannot tell"}


def upgrade() -> None:
    connection = op.get_bind()
    for run in connection.execute(sa.select(RUNS).where(RUNS.c.comparison.is_not(None))).all():
        _keep(connection, run.id, (run.comparison or {}).get("pairs", []))


def _keep(connection: sa.Connection, run_id: int, pairs: list[dict[str, str]]) -> None:
    """What was worked out of the pairs at every reading."""
    rows = connection.execute(sa.select(STANDINGS).where(STANDINGS.c.run_id == run_id)).all()
    gaps = {row.contender: row.against_popular for row in rows if row.against_popular}
    baseline = next((contender for contender, gap in gaps.items() if gap["verdict"] == "baseline"), None)
    verdicts = {(pair["first"], pair["second"]): pair["verdict"] for pair in pairs}
    verdicts |= {(pair["second"], pair["first"]): TURNED[pair["verdict"]] for pair in pairs}
    for row in rows:
        verdict = verdicts.get((row.contender, baseline or ""))
        if verdict and row.against_popular:
            kept = row.against_popular | {"verdict": verdict}
            connection.execute(sa.update(STANDINGS).where(STANDINGS.c.id == row.id).values(against_popular=kept))


def downgrade() -> None:
    """Nothing: what was kept is what every reading worked out."""
