"""What items are, lined up with the rows of a training matrix: what diversity and calibration look at."""

from __future__ import annotations

from collections.abc import Mapping
from typing import cast, get_args

import polars as pl
from scipy import sparse

from gleaner.core.data.column_types import guess_type
from gleaner.core.data.features import FeatureEncoder, Role
from gleaner.core.data.ids import IdMap
from gleaner.core.errors import DataError
from gleaner.core.metrics.exposure import ItemContent


def content_of(
    table: pl.DataFrame, items: IdMap, columns: list[str], groups: str | None, types: Mapping[str, str] | None = None
) -> ItemContent:
    """Vectors of the items from `columns`, groups from one column of categories. table: column `id` and others.

    types: what each column holds, where it was declared; others are looked at. What encoding learns it learns from
    the items of training. An item the table lacks has no vector and no group.
    Raises DataError naming a column that is not there or cannot be used so.
    """
    for name in [*columns, *([groups] if groups else [])]:
        if name not in table.columns or name == "id":
            has = ", ".join(column for column in table.columns if column != "id")
            raise DataError(f"the item table has no column {name!r}; it has: {has}", where="rank")
    rows = pl.DataFrame({"id": items.ids.to_pylist()}).join(table, on="id", how="left", maintain_order="left")
    there = rows["id"].is_in(table["id"].implode())
    vectors = _encoded(rows, there, {name: _role(table[name], types) for name in columns}) if columns else None
    if groups is None:
        return ItemContent(vectors)
    role = _role(table[groups], types)
    if role not in ("category", "categories"):
        raise DataError(f"rank.categories must name a column of categories, and {groups!r} is {role}", where="rank")
    return ItemContent(vectors, _encoded(rows, there & rows[groups].is_not_null(), {groups: role}))


def _role(cells: pl.Series, types: Mapping[str, str] | None) -> Role:
    """How a column is encoded, by what it holds."""
    kind = (types or {}).get(cells.name) or guess_type(cells).kind
    if kind not in get_args(Role):
        raise DataError(f"column {cells.name!r} holds a {kind}, which says nothing of content", where="rank")
    return cast(Role, kind)


def _encoded(rows: pl.DataFrame, there: pl.Series, roles: dict[str, Role]) -> sparse.csr_array:
    encoder = FeatureEncoder(roles).fit(rows.filter(there))
    known = sparse.diags_array(there.to_numpy().astype("float32"))
    made = sparse.csr_array(known @ encoder.encode(rows).matrix)
    made.eliminate_zeros()
    return made
