"""What users did, read from the rows of a version."""

from __future__ import annotations

import polars as pl

from gleaner.service.http.state import Service
from gleaner.store.datasets import VersionFiles
from gleaner.wire.datasets import History, HistoryRow


def _rows(service: Service, files: VersionFiles) -> pl.LazyFrame:
    return pl.scan_parquet(service.artefacts.local_path(files.interactions_file))


def history_of(service: Service, files: VersionFiles, user: str, limit: int) -> History:
    """Rows of one user, newest first where there are times, with all item columns."""
    rows = _rows(service, files).filter(pl.col("user") == user).collect(engine="streaming")
    if "time" in rows.columns:
        rows = rows.sort("time", descending=True, nulls_last=True, maintain_order=True)
    table = service.library.items_of(files)
    shown = [
        HistoryRow(
            item=row["item"],
            kind=row.get("kind"),
            time=row.get("time"),
            value=row.get("value"),
            columns=table.of(row["item"], table.columns),
        )
        for row in rows.head(limit).iter_rows(named=True)
    ]
    return History(user=user, known=rows.height > 0, rows=shown, total=rows.height)
