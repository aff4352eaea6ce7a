"""What users and items are, from columns of their tables, lined up with the rows of a training matrix."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, cast, get_args

import numpy as np
import polars as pl
from scipy import sparse

from gleaner.core.data.ids import IdMap
from gleaner.core.data.tables.column_encoding import ColumnEncoding, Role
from gleaner.core.data.tables.column_encodings import ENCODINGS, read_encoding
from gleaner.core.data.tables.column_types import guess_type, read_as
from gleaner.core.data.tables.text_encoders import NO_TEXT_ENCODERS, TextEncoders
from gleaner.core.errors import DataError, InputError, ParameterError, near


@dataclass(frozen=True, eq=False)
class Column:
    """One column of a table as features: float32 (n_rows, n_features), a row of zeros for what the table lacks.
    encoding: what was learned of it, by which other rows of the table become features too. texts: the cells of a column
    of text, for models that read them in another way."""

    encoding: ColumnEncoding
    matrix: sparse.csr_array
    texts: pl.Series | None = None

    @property
    def name(self) -> str:
        """The column's."""
        return self.encoding.column

    @property
    def role(self) -> Role:
        """How it is encoded."""
        return self.encoding.role

    @property
    def features(self) -> list[str]:
        """The name of each feature."""
        return self.encoding.names


@dataclass(frozen=True, eq=False)
class Features:
    """The columns that models may look at, row by row of the training matrix; none where there is no table. context:
    names of the columns that the matrix keeps beside each cell. text_encoders: those that models may name."""

    items: tuple[Column, ...] = ()
    users: tuple[Column, ...] = ()
    context: tuple[str, ...] = ()
    text_encoders: TextEncoders = NO_TEXT_ENCODERS


def features_of(
    items: IdMap,
    users: IdMap,
    item_table: pl.DataFrame | None = None,
    user_table: pl.DataFrame | None = None,
    types: Mapping[str, Mapping[str, str]] | None = None,
    learned_from: Mapping[str, np.ndarray] | None = None,
) -> Features:
    """Every column of both tables that says something of a row: what holds nothing, or text of no meaning such as an
    address, is left out. What encoding learns it learns from the rows of `items` and `users`, which are training's.

    tables: column `id` and others. types: {"items": {column: type}, "users": ...} as declared; where a table has none
    its cells are looked at, and read as what they hold. learned_from: bool (n,) by side, the rows to learn from, where
    these are not all.
    """
    declared, rows = types or {}, learned_from or {}
    return Features(
        _columns(items, item_table, declared.get("items"), rows.get("items")),
        _columns(users, user_table, declared.get("users"), rows.get("users")),
    )


def _columns(
    ids: IdMap, table: pl.DataFrame | None, types: Mapping[str, str] | None, learned_from: np.ndarray | None
) -> tuple[Column, ...]:
    if table is None:
        return ()
    kinds: Mapping[str, str] = {}
    if types is None:
        table, kinds = read_cells(table)
    rows, there = lined_up(table, ids)
    training = there if learned_from is None else there & pl.Series(learned_from)
    seen, columns = rows.filter(training), []
    for name, kind in (types or kinds).items():
        if name == "id" or kind not in get_args(Role) or seen[name].null_count() == seen.height:
            continue
        columns.append(encoded(rows, there, name, cast(Role, kind), training))
    return tuple(columns)


def read_cells(table: pl.DataFrame) -> tuple[pl.DataFrame, dict[str, str]]:
    """A table whose types were not declared, its cells read as what they hold, and what that is."""
    kinds: dict[str, str] = {}
    for name in [each for each in table.columns if each != "id"]:
        guess = guess_type(table[name])
        kinds[name] = guess.kind
        table = table.with_columns(read_as(table[name], guess.kind, guess.separator).cells)
    return table, kinds


def lined_up(table: pl.DataFrame, ids: IdMap) -> tuple[pl.DataFrame, pl.Series]:
    """A row of the table for every id, empty where it has none, and whether it has one."""
    rows = pl.DataFrame({"id": ids.ids.to_pylist()}).join(table, on="id", how="left", maintain_order="left")
    return rows, rows["id"].is_in(table["id"].implode())


def role_of(cells: pl.Series, types: Mapping[str, str] | None) -> Role:
    """How a column is encoded, by what it holds. Raises DataError where it says nothing of content."""
    kind = (types or {}).get(cells.name) or guess_type(cells).kind
    if kind not in get_args(Role):
        raise DataError(f"column {cells.name!r} holds a {kind}, which says nothing of content", where="rank")
    return cast(Role, kind)


def encoded(rows: pl.DataFrame, there: pl.Series, name: str, role: Role, training: pl.Series | None = None) -> Column:
    """A column of lined-up rows, learned from those of `training`, which are all that are there if none is given."""
    if role not in ENCODINGS:
        raise DataError(f"a column cannot be encoded as {role!r}", where=name)
    encoding = ENCODINGS[role].learn(rows[name].filter(there if training is None else training))
    known = sparse.diags_array(there.to_numpy().astype("float32"))
    matrix = sparse.csr_array(known @ encoding.encode(rows[name]), dtype=np.float32)
    matrix.eliminate_zeros()
    return Column(encoding, matrix, rows[name] if role == "text" else None)


def encodings_to_json(sides: Mapping[Any, list[ColumnEncoding]]) -> bytes:
    """What was learned of the columns of each side, for a model's state."""
    return json.dumps({side: [each.record() for each in some] for side, some in sides.items()}).encode()


def encodings_from_json(letters: bytes) -> dict[str, list[ColumnEncoding]]:
    """Written by `encodings_to_json`. Raises DataError where it is not."""
    try:
        sides = json.loads(letters)
        return {str(side): [read_encoding(record) for record in records] for side, records in sides.items()}
    except (ValueError, TypeError, KeyError, AttributeError) as error:
        raise DataError(f"the encoder of the columns does not fit: {error}", where="encodings") from None


def encoded_again(encodings: list[ColumnEncoding], rows: pl.DataFrame) -> list[Column]:
    """Other rows of the same table by what training learned. Raises InputError naming a column that is not there, or
    does not hold what it held."""
    columns = []
    for each in encodings:
        if each.column not in rows.columns:
            raise InputError(f"there is no column {each.column!r} in the table", where=each.column)
        try:
            matrix = each.encode(rows[each.column])
        except pl.exceptions.PolarsError:
            text = f"column {each.column!r} does not hold a {each.role}, as it did in training"
            raise InputError(text, where=each.column) from None
        columns.append(Column(each, sparse.csr_array(matrix, dtype=np.float32)))
    return columns


def chosen(columns: tuple[Column, ...], wanted: list[str] | None, where: str) -> list[Column]:
    """The columns that a model's parameter names, all where it names none. Raises ParameterError naming one that is not
    there."""
    if wanted is None:
        return list(columns)
    by_name = {column.name: column for column in columns}
    for name in wanted:
        if name not in by_name:
            text = f"there is no column {name!r} to take features from{near(name, by_name)}"
            raise ParameterError(text, where=where)
    return [by_name[name] for name in wanted]


def require_columns(where: str, given: object) -> None:
    """Raise ParameterError unless a parameter is a list of column names, or None for all."""
    if given is None:
        return
    if not isinstance(given, list) or any(not isinstance(name, str) for name in given):
        raise ParameterError(f"{where} must be a list of column names, not {given!r}", where=where)
    if len(set(given)) < len(given):
        raise ParameterError(f"{where} names a column twice", where=where)


def of_length_one(matrix: sparse.csr_array) -> sparse.csr_array:
    """Rows divided by their length, rows of zeros as they are: float32."""
    lengths = np.sqrt(np.asarray(matrix.multiply(matrix).sum(axis=1), dtype=np.float64)).ravel()
    scaled = sparse.diags_array((1 / np.where(lengths > 0, lengths, 1)).astype(np.float32)) @ matrix
    return sparse.csr_array(scaled, dtype=np.float32)


def without_columns(columns: dict[str, list[str]], part: str) -> dict[str, list[str]]:
    """The same choice of columns without some: `features` (all), `features.items`, `features.users`,
    `features.context`, or `features.COLUMN`. Raises ParameterError where there is nothing of that."""
    name = part.partition(".")[2]
    sides = {"items": "item_columns", "users": "user_columns", "context": "context_columns"}
    gone = {key: names if not name or key == sides.get(name) else [name] for key, names in columns.items()}
    left = {key: [each for each in names if each not in gone[key]] for key, names in columns.items()}
    if left == columns:
        has = ", ".join(dict.fromkeys(each for names in columns.values() for each in names)) or "none"
        raise ParameterError(f"without {part!r}: there is no such column; it looks at: {has}", where="without")
    return left
