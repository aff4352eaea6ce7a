"""Finding users and items by what people call them."""

from __future__ import annotations

from typing import Any, Literal

import polars as pl

from gleaner.core.data.tables.name_column import STORED_AS
from gleaner.service.datasets.tables import activity_of
from gleaner.service.http.state import Service
from gleaner.store.datasets import VersionFiles

BETWEEN = "\n"
"""Stands between the texts of a row, so that no search matches across two of them."""


def find(
    service: Service, files: VersionFiles, side: Literal["user", "item"], search: str, limit: int
) -> list[dict[str, Any]]:
    """Users or items whose id or any column of text holds a text, whatever the case: those that are called so first,
    then the most active. Each with id, rows and label, which is None where the table names nobody."""
    digests = files.user_activity_file if side == "user" else files.item_activity_file, _table_file(files, side)
    rows = service.library.search_table((files.name, *digests), lambda: _searchable(service, files, side))
    if wanted := search.strip().lower():
        rows = rows.filter(pl.col("texts").str.contains(wanted, literal=True))
        exact = pl.col("id").str.to_lowercase() == wanted
        rows = rows.sort(exact, descending=True, maintain_order=True)
    return rows.head(limit).select("id", "rows", "label").to_dicts()


def _table_file(files: VersionFiles, side: Literal["user", "item"]) -> str | None:
    return files.users_file if side == "user" else files.items_file


def _searchable(service: Service, files: VersionFiles, side: Literal["user", "item"]) -> pl.DataFrame:
    """id, rows, label, and all texts of the row in lower case, the most active first, those without rows last."""
    activity = activity_of(service, files, side).select("id", "rows")
    digest = _table_file(files, side)
    if digest is None:
        return activity.with_columns(label=pl.lit(None, pl.String), texts=pl.col("id").str.to_lowercase())
    scanned = pl.scan_parquet(service.artefacts.local_path(digest))
    schema = scanned.collect_schema()
    texts = [name for name, kind in schema.items() if kind == pl.String and name != "id"]
    label = next((name for name in STORED_AS if name in texts), None)
    every_text = pl.concat_str(["id", *texts], separator=BETWEEN, ignore_nulls=True).str.to_lowercase()
    named = pl.lit(None, pl.String) if label is None else pl.col(label)
    table = scanned.select("id", label=named, texts=every_text).collect()
    joined = activity.join(table, on="id", how="left", maintain_order="left")
    # whom nobody has met yet is looked for most of all by what it is called
    unmet = table.join(activity, on="id", how="anti").with_columns(rows=pl.lit(0, activity.schema["rows"]))
    whole = pl.concat([joined, unmet.select(joined.columns)])
    return whole.with_columns(pl.col("texts").fill_null(pl.col("id").str.to_lowercase()))
