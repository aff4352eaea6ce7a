"""Who an export leaves out, and why: whom the version knows and the model does not, and who has nothing listed."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import numpy as np
import polars as pl

from gleaner.core.data.ids import IdMap
from gleaner.core.data.tables.csv_cells import shown_cells
from gleaner.jobs.worker.context import JobContext
from gleaner.store import datasets

Side = Literal["user", "item"]
NOTHING_LISTED = "nothing is left to list"


@dataclass(frozen=True, eq=False)
class LeftOut:
    """who: columns `user` or `item`, `rows` and `reason`, one of each that is left out. of: how many there are."""

    side: Side
    who: pl.DataFrame
    of: int

    @property
    def counts(self) -> dict[str, int]:
        """How many by reason, the most first."""
        counted = self.who.group_by("reason").len().sort("len", "reason", descending=[True, False])
        return dict(counted.iter_rows())

    @property
    def sentence(self) -> str:
        """In a sentence; empty where nobody is left out."""
        if not self.who.height:
            return ""
        why = "; ".join(f"{count:,}: {reason}" for reason, count in self.counts.items())
        return f"{self.who.height:,} of {self.of:,} {self.side}s are left out ({why})"

    def facts(self) -> dict[str, Any]:
        """For a job's result."""
        return {"side": self.side, "count": self.who.height, "of": self.of, "reasons": self.counts}

    def write(self, path: Path) -> None:
        """As CSV, with cells that a spreadsheet would run shown instead."""
        shown_cells(self.who)[0].write_csv(path)


def left_out_of(
    context: JobContext,
    side: Side,
    ids: IdMap,
    listed: np.ndarray,
    version_id: int | None,
    prepare: dict[str, Any],
    trained_on: str,
) -> LeftOut | None:
    """Return who is not in an export, of those in the data version and those in `ids`.

    ids: whom the export could list, users of live events among them. listed: their rows that have something listed.
    None if the data of the version is not here.
    """
    if version_id is None:
        return None
    with context.engine.begin() as connection:
        files = datasets.files_by_id(connection, version_id)
    digest = files.user_activity_file if side == "user" else files.item_activity_file
    if digest is None:
        return None
    activity = pl.read_parquet(context.artefacts.local_path(digest), columns=["id", "rows"])
    has = np.zeros(len(ids), dtype=bool)
    has[listed] = True
    listable = pl.DataFrame({"id": ids.ids.to_pylist(), "listed": has}, schema_overrides={"id": pl.String})
    everyone = activity.join(listable, on="id", how="full", coalesce=True).with_columns(pl.col("rows").fill_null(0))
    unlisted = everyone.filter(~pl.col("listed").fill_null(False))
    least = int(prepare.get(f"min_{side}") or 1)
    few = f"fewer than {least} interactions, and the preparation prunes those (min_{side}: {least})"
    rest = "the preparation leaves nothing of them" + (
        "" if trained_on == "everything" else ", or nothing in the part that the model was trained on"
    )
    reason = (
        pl.when(pl.col("listed").is_not_null())
        .then(pl.lit(NOTHING_LISTED))
        .when(pl.col("rows") < least)
        .then(pl.lit(few))
        .otherwise(pl.lit(rest))
    )
    who = unlisted.select(pl.col("id").alias(side), "rows", reason.alias("reason")).sort("rows", side)
    return LeftOut(side, who, everyone.height)
