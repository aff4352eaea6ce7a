"""Rows of a version's tables: a look at some of them, one item, chosen users, features."""

from __future__ import annotations

from typing import Literal

import numpy as np
import polars as pl

from gleaner.core.data import overlap
from gleaner.core.data.profile import activity, histogram
from gleaner.core.data.tables.column_encoding import Role
from gleaner.core.data.tables.feature_encoder import FeatureEncoder
from gleaner.core.data.together import MetItems
from gleaner.core.errors import InputError, UnknownNameError
from gleaner.core.ranking.conditions.condition import compile_condition
from gleaner.service.http.state import Service
from gleaner.service.tables.forms import json_rows
from gleaner.store.datasets import VersionFiles
from gleaner.store.records.datasets import VersionRecord
from gleaner.wire.datasets import (
    CooccurringItem,
    EncodedColumn,
    EncodingReport,
    ItemFacts,
    Overlap,
    OverlapMap,
    RowsPage,
    TableColumn,
    ValueBin,
)

TableName = Literal["interactions", "items", "users"]
SAMPLE_SEED = 1
ROLE_TYPES = {"user": "id", "item": "id", "kind": "category", "time": "time", "value": "number", "part": "category"}
ENCODABLE: dict[str, Role] = {
    "category": "category", "categories": "categories", "number": "number", "flag": "flag", "date": "date",
    "text": "text",
}  # fmt: skip


def scan(service: Service, files: VersionFiles, table: TableName) -> pl.LazyFrame:
    """One table, lazily. Raises UnknownNameError when the version has none."""
    digest = getattr(files, f"{table}_file")
    if digest is None:
        raise UnknownNameError(f"{files.name} has no {table} table", where="table")
    return pl.scan_parquet(service.artefacts.local_path(digest))


def columns_of(version: VersionRecord, table: TableName, names: list[str]) -> list[TableColumn]:
    """What is known of a table's columns."""
    if table != "interactions":
        return version.item_columns if table == "items" else version.user_columns
    context = {column.name: column for column in version.context_columns}
    return [context.get(name) or TableColumn(name=name, type=ROLE_TYPES[name], missing=0) for name in names]


def look(
    service: Service,
    version: VersionRecord,
    files: VersionFiles,
    table: TableName,
    where: str | None,
    sample: int | None,
    limit: int,
) -> RowsPage:
    """The first rows for which a condition holds, or a seeded sample. Raises InputError on a wrong condition."""
    rows = scan(service, files, table)
    schema = dict(rows.collect_schema())
    if where:
        rows = rows.filter(compile_condition(where, schema))
    total = int(rows.select(pl.len()).collect(engine="streaming").item())
    if sample is None:
        frame = rows.head(limit).collect(engine="streaming")
    else:
        places = np.sort(np.random.default_rng(SAMPLE_SEED).choice(total, size=min(sample, total), replace=False))
        numbered = rows.with_row_index("\0row")
        wanted = pl.Series(places, dtype=pl.UInt32)
        frame = numbered.filter(pl.col("\0row").is_in(wanted.implode())).drop("\0row").collect(engine="streaming")
    columns = columns_of(version, table, frame.columns)
    return RowsPage(table=table, columns=columns, rows=json_rows(frame), total=total, sampled=sample is not None)


def activity_of(service: Service, files: VersionFiles, side: Literal["user", "item"]) -> pl.DataFrame:
    """One row per user or item: id, rows, mean, first, last; kept with the version, most rows first."""
    digest = files.user_activity_file if side == "user" else files.item_activity_file
    if digest is not None:
        return service.library.frame(digest)
    # a version from before activity was kept
    rows = scan(service, files, "interactions")
    return activity(rows, side, rows.collect_schema().names())


def item_facts(service: Service, version: VersionRecord, files: VersionFiles, item: str, n: int) -> ItemFacts:
    """What the rows say of one item: its values, its months, and what goes together with it."""
    table = service.library.items_of(files)
    rows = scan(service, files, "interactions")
    mine = rows.filter(pl.col("item") == item).collect(engine="streaming")
    columns = table.of(item, table.columns)
    if not mine.height:
        if not columns:
            raise UnknownNameError(f"{files.name} has no item {item!r}", where="item")
        return ItemFacts(item=item, known=False, rows=0, users=0, columns=columns)
    facts = ItemFacts(item=item, known=True, rows=mine.height, users=mine["user"].n_unique(), columns=columns)
    if "value" in mine.columns and mine["value"].count():
        values = mine["value"].drop_nulls()
        bins, _ = histogram(mine.lazy(), float(values.min()), float(values.max()))  # type: ignore[arg-type]
        facts.mean, facts.histogram = float(values.mean()), [ValueBin(**each) for each in bins]  # type: ignore[arg-type]
    if "time" in mine.columns:
        months = (
            mine.filter(pl.col("time").is_not_null()).group_by(at=pl.col("time").dt.strftime("%Y-%m-01")).len("rows")
        )
        facts.over_time = months.sort("at").to_dicts()  # type: ignore[assignment]
    named = next((c.name for c in columns_of(version, "items", []) if c.type == "text"), None)
    ids = {side: activity_of(service, files, side)["id"] for side in ("user", "item")}
    met = service.library.met_items(files.interactions_file, lambda: MetItems.of(rows, ids["user"], ids["item"]))
    shared = met.together(item, n)
    labels = [table.of(row["item"], [named]).get(named) if named else None for row in shared]
    facts.together = [CooccurringItem(**row, label=label) for row, label in zip(shared, labels, strict=True)]
    return ItemFacts.model_validate(facts.model_dump())


def overlap_map(service: Service, files: VersionFiles, users: list[str]) -> OverlapMap:
    """Every pair of the users: items in common and how alike their values are."""
    if len(set(users)) < 2:
        raise InputError("an overlap needs two different users at least", where="user")
    chosen = list(dict.fromkeys(users))
    rows = scan(service, files, "interactions").filter(pl.col("user").is_in(pl.Series(chosen).implode()))
    frame = rows.collect(engine="streaming")
    known = set(frame["user"].unique().to_list())
    pairs = overlap.pairs(frame, [user for user in chosen if user in known])
    return OverlapMap(
        users=[user for user in chosen if user in known],
        unknown=[user for user in chosen if user not in known],
        pairs=[Overlap(**pair) for pair in pairs],
    )


def encoding_of(
    service: Service, version: VersionRecord, files: VersionFiles, table: Literal["items", "users"]
) -> EncodingReport:
    """How a table's columns become features, learned from the ids that the interactions have."""
    frame = scan(service, files, table).collect()
    seen = activity_of(service, files, "item" if table == "items" else "user")["id"]
    roles = {c.name: ENCODABLE[c.type] for c in columns_of(version, table, []) if c.type in ENCODABLE}
    training = frame.filter(pl.col("id").is_in(seen.implode()))
    roles = {name: role for name, role in roles.items() if training[name].null_count() < training.height}
    if not roles:
        raise InputError(f"the {table} table of {files.name} has no column that can be encoded", where="table")
    encoder = FeatureEncoder(roles).fit(training)
    encoded = encoder.encode(frame)
    columns, at = [], 0
    for report in encoder.report:
        examples = encoded.names[at : at + min(4, report.features)]
        at += report.features
        columns.append(EncodedColumn(**vars(report), examples=examples))
    cells = max(1, encoded.matrix.shape[0] * encoded.matrix.shape[1])
    return EncodingReport(
        table=table, rows=frame.height, features=len(encoded.names), filled=encoded.matrix.nnz / cells, columns=columns
    )
