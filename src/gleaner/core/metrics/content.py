"""What items are, lined up with the rows of a training matrix: what diversity and calibration look at."""

from __future__ import annotations

from collections.abc import Mapping

import polars as pl
from scipy import sparse

from gleaner.core.data.ids import IdMap
from gleaner.core.data.tables.row_features import encoded, lined_up, role_of
from gleaner.core.errors import DataError, near
from gleaner.core.metrics.exposure import ContentVectors


def content_of(
    table: pl.DataFrame, items: IdMap, columns: list[str], groups: str | None, types: Mapping[str, str] | None = None
) -> ContentVectors:
    """Vectors of the items from `columns`, groups from one column of categories. table: column `id` and others.

    types: what each column holds, where it was declared; others are looked at. What encoding learns it learns from
    the items of training. An item the table lacks has no vector and no group.
    Raises DataError naming a column that is not there or cannot be used so.
    """
    for name in [*columns, *([groups] if groups else [])]:
        if name not in table.columns or name == "id":
            has = near(name, [column for column in table.columns if column != "id"])
            raise DataError(f"the item table has no column {name!r}{has}", where="rank")
    rows, there = lined_up(table, items)
    blocks = [encoded(rows, there, name, role_of(table[name], types)).matrix for name in columns]
    vectors = sparse.csr_array(sparse.hstack(blocks, format="csr")) if blocks else None
    if groups is None:
        return ContentVectors(vectors)
    role = role_of(table[groups], types)
    if role not in ("category", "categories"):
        raise DataError(f"rank.categories must name a column of categories, and {groups!r} is {role}", where="rank")
    return ContentVectors(vectors, encoded(rows, there & rows[groups].is_not_null(), groups, role).matrix)
