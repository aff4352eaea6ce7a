"""Item and user columns as numbers a model can take. What is learned (categories, means, word weights) is learned from
the training rows of the table only."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np
import polars as pl
from scipy import sparse

from gleaner.core.data.tables.hashing import BUCKETS, buckets_of
from gleaner.core.errors import DataError

Role = Literal["category", "categories", "number", "flag", "date", "text"]
MISSING = "(missing)"
WORD = re.compile(r"[^\W_]+(?:['’][^\W_]+)?")
MAX_CATEGORIES = 1000
MAX_WORDS = 5000
MIN_WORD_ROWS = 2


@dataclass(frozen=True, eq=False)
class EncodedTable:
    """Features of some rows: a sparse float32 matrix (n_rows, n_features) and the name of each feature."""

    matrix: sparse.csr_array
    names: list[str]


@dataclass(frozen=True)
class ColumnReport:
    """How one column was encoded: features it became, rows that lacked it, and how that was handled."""

    column: str
    role: Role
    features: int
    missing: int
    how: str


Encode = Callable[[pl.Series], sparse.csr_array]


@dataclass(frozen=True, eq=False)
class _Fitted:
    names: list[str]
    encode: Encode
    how: str


class FeatureEncoder:
    """Learns from a table's training rows, encodes any rows of the same columns.

    category: one-hot; missing is a category of its own; a category training lacks encodes as all zeros. Of more than
    1,000 the most frequent have a feature each, all others share 256 by a hash, those that training lacks too.
    categories (lists): multi-hot, the same. number, date (days): (x - mean) / deviation of the training rows; missing
    takes the median and sets an indicator. flag: 0 or 1 and an indicator. text: TF-IDF of words, rows of length one.
    """

    def __init__(self, roles: dict[str, Role]) -> None:
        unknown = sorted(set(roles.values()) - set(_LEARN))
        if unknown:
            raise DataError(
                f"a column cannot be encoded as {unknown[0]!r}; there are: {', '.join(_LEARN)}", where="roles"
            )
        self.roles = roles
        self._fitted: dict[str, _Fitted] = {}
        self.report: list[ColumnReport] = []

    def fit(self, training: pl.DataFrame) -> FeatureEncoder:
        """Learn from training rows. Raises DataError on a column that is not there or holds nothing."""
        self._fitted, self.report = {}, []
        for column, role in self.roles.items():
            if column not in training.columns:
                raise DataError(f"there is no column {column!r} to encode", where=column)
            fitted = _LEARN[role](column, training[column])
            self._fitted[column] = fitted
            missing = training[column].null_count()
            self.report.append(ColumnReport(column, role, len(fitted.names), missing, fitted.how))
        return self

    def encode(self, table: pl.DataFrame) -> EncodedTable:
        """Features of any rows, in the order and with the scaling learned."""
        blocks = [fitted.encode(table[column]) for column, fitted in self._fitted.items()]
        names = [name for fitted in self._fitted.values() for name in fitted.names]
        whole = sparse.hstack(blocks, format="csr") if blocks else sparse.csr_array((table.height, 0))
        return EncodedTable(sparse.csr_array(whole, dtype=np.float32), names)


def _one_hot(rows: np.ndarray, places: np.ndarray, shape: tuple[int, int]) -> sparse.csr_array:
    known = places >= 0
    cells = (np.ones(int(known.sum()), np.float32), (rows[known], places[known]))
    return sparse.coo_array(cells, shape=shape).tocsr()


def _kept(counts: pl.DataFrame, most: int) -> list[str]:
    """The most frequent values, then in alphabetical order."""
    return sorted(counts.sort("n", "value", descending=[True, False]).head(most)["value"].to_list())


def _learn_category(column: str, cells: pl.Series) -> _Fitted:
    filled = cells.cast(pl.String).fill_null(MISSING).alias("value")
    counts = filled.to_frame().group_by("value").agg(n=pl.len())
    kept = _kept(counts, MAX_CATEGORIES)
    place, shared = {value: at for at, value in enumerate(kept)}, counts.height - len(kept)
    names = [f"{column}={value}" for value in kept] + _shared_names(column, shared)

    def encode(given: pl.Series) -> sparse.csr_array:
        texts = given.cast(pl.String).fill_null(MISSING)
        places = _places(texts, place, hashed=shared > 0)
        return _one_hot(np.arange(len(texts)), places, (len(texts), len(names)))

    has = ", missing as one of its own" if MISSING in place else ""
    return _Fitted(names, encode, f"one-hot of {len(kept)} categories{has}{_shared_text(shared)}")


def _shared_names(column: str, shared: int) -> list[str]:
    """Features of the values that have none of their own, where there are any."""
    return [f"{column} (hashed {bucket})" for bucket in range(BUCKETS)] if shared else []


def _shared_text(shared: int) -> str:
    return f"; {shared:,} others share {BUCKETS} by a hash" if shared else ""


def _places(texts: pl.Series, place: dict[str, int], *, hashed: bool) -> np.ndarray:
    """The feature of every text, -1 for none: int64 (n,). hashed: what has none of its own has that of its bucket."""
    places = np.array([place.get(text, -1) for text in texts.to_list()], dtype=np.int64)
    if hashed:
        others = places < 0
        places[others] = len(place) + buckets_of(texts.filter(pl.Series(others)))
    return places


def _learn_categories(column: str, cells: pl.Series) -> _Fitted:
    if cells.dtype != pl.List:
        raise DataError(f"column {column!r} holds no lists; encode it as category", where=column)
    each = cells.explode(empty_as_null=True).drop_nulls().cast(pl.String).alias("value")
    counts = each.to_frame().group_by("value").agg(n=pl.len())
    kept = _kept(counts, MAX_CATEGORIES)
    has_missing, shared = cells.null_count() > 0, counts.height - len(kept)
    own = [*kept, MISSING] if has_missing else kept
    place = {value: at for at, value in enumerate(own)}
    names = [f"{column}:{value}" for value in own] + _shared_names(column, shared)

    def encode(given: pl.Series) -> sparse.csr_array:
        lists = given.to_list()
        pairs = [
            (row, value)
            for row, values in enumerate(lists)
            for value in dict.fromkeys([MISSING] if values is None else values)
        ]
        texts = pl.Series([value for _, value in pairs], dtype=pl.String)
        places = _places(texts, place, hashed=shared > 0)
        whole = _one_hot(np.array([row for row, _ in pairs], dtype=np.int64), places, (len(lists), len(names)))
        # two values of a row may share a feature
        whole.data[:] = 1
        return whole

    has = ", missing as one of its own" if has_missing else ""
    return _Fitted(names, encode, f"multi-hot of {len(kept)} categories{has}{_shared_text(shared)}")


def _learn_number(column: str, cells: pl.Series) -> _Fitted:
    return _scaled(column, cells, lambda given: given.cast(pl.Float64), "")


def _learn_date(column: str, cells: pl.Series) -> _Fitted:
    return _scaled(column, cells, lambda given: given.cast(pl.Date).cast(pl.Int32).cast(pl.Float64), " as days")


def _scaled(column: str, cells: pl.Series, read: Callable[[pl.Series], pl.Series], what: str) -> _Fitted:
    known = read(cells).drop_nulls().to_numpy()
    if not len(known):
        raise DataError(f"column {column!r} holds nothing in the training rows", where=column)
    median, has_missing = float(np.median(known)), cells.null_count() > 0
    filled = np.concatenate([known, np.full(cells.null_count(), median)])
    mean, deviation = float(filled.mean()), float(filled.std()) or 1.0
    names = [column, f"{column} {MISSING}"] if has_missing else [column]

    def encode(given: pl.Series) -> sparse.csr_array:
        numbers = (read(given).fill_null(median).to_numpy() - mean) / deviation
        columns = [numbers, given.is_null().to_numpy()] if has_missing else [numbers]
        return sparse.csr_array(np.column_stack(columns).astype(np.float32))

    gap = f"; missing takes the median {median:g} and an indicator" if has_missing else ""
    return _Fitted(names, encode, f"scaled{what}: mean {mean:.4g}, deviation {deviation:.4g}{gap}")


def _learn_flag(column: str, cells: pl.Series) -> _Fitted:
    has_missing = cells.null_count() > 0
    names = [column, f"{column} {MISSING}"] if has_missing else [column]

    def encode(given: pl.Series) -> sparse.csr_array:
        columns = [given.fill_null(False).cast(pl.Float32).to_numpy()]
        if has_missing:
            columns.append(given.is_null().cast(pl.Float32).to_numpy())
        return sparse.csr_array(np.column_stack(columns).astype(np.float32))

    return _Fitted(names, encode, "0 or 1" + ("; missing is 0 and an indicator" if has_missing else ""))


def words(text: str | None) -> list[str]:
    """Lower-case words of a text: letters and digits, with an inner apostrophe."""
    return WORD.findall(text.lower()) if text else []


def _learn_text(column: str, cells: pl.Series) -> _Fitted:
    """tf * (ln((1 + n) / (1 + df)) + 1), rows scaled to length one (Salton, Buckley 1988, with smoothed idf)."""
    rows = [words(text) for text in cells.to_list()]
    seen = pl.DataFrame({"value": [word for row in rows for word in set(row)]}, schema={"value": pl.String})
    counts = seen.group_by("value").agg(n=pl.len()).filter(pl.col("n") >= MIN_WORD_ROWS)
    kept = _kept(counts, MAX_WORDS)
    place = {word: at for at, word in enumerate(kept)}
    in_rows = dict(zip(counts["value"].to_list(), counts["n"].to_list(), strict=True))
    idf = np.array([np.log((1 + len(rows)) / (1 + in_rows[word])) + 1 for word in kept])

    def encode(given: pl.Series) -> sparse.csr_array:
        terms = [[place[word] for word in words(text) if word in place] for text in given.to_list()]
        lengths = [len(row) for row in terms]
        places = np.fromiter((at for row in terms for at in row), dtype=np.int64, count=sum(lengths))
        cells_ = (idf[places], (np.repeat(np.arange(len(terms)), lengths), places))
        table = sparse.coo_array(cells_, shape=(len(terms), len(kept))).tocsr()
        norms = np.sqrt(np.asarray(table.multiply(table).sum(axis=1)).ravel())
        return sparse.csr_array(sparse.diags_array(1 / np.where(norms > 0, norms, 1)) @ table)

    how = f"TF-IDF of {len(kept)} words that stand in at least {MIN_WORD_ROWS} rows; missing has none"
    return _Fitted([f"{column}~{word}" for word in kept], encode, how)


_LEARN: dict[str, Callable[[str, pl.Series], _Fitted]] = {
    "category": _learn_category,
    "categories": _learn_categories,
    "number": _learn_number,
    "flag": _learn_flag,
    "date": _learn_date,
    "text": _learn_text,
}
