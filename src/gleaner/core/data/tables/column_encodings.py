"""How the cells of one column become features: a small record for each role, learned from training rows, that can be
kept with a model and read back."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any, ClassVar, Self

import numpy as np
import polars as pl
from scipy import sparse

from gleaner.core.data.tables.column_encoding import (
    MISSING,
    ColumnEncoding,
    Role,
    count_of,
    number_of,
    text_of,
    texts_of,
    truth_of,
)
from gleaner.core.data.tables.hashing import BUCKETS, buckets_of
from gleaner.core.data.tables.number_encodings import DateEncoding, FlagEncoding, NumberEncoding
from gleaner.core.errors import DataError

WORD = re.compile(r"[^\W_]+(?:['’][^\W_]+)?")
MAX_CATEGORIES = 1000
MAX_WORDS = 5000
MIN_WORD_ROWS = 2


@dataclass(frozen=True)
class CategoryEncoding(ColumnEncoding):
    """One-hot. values: those with a feature each, in its order. shared: how many others share some by a hash."""

    role: ClassVar[Role] = "category"

    column: str
    values: tuple[str, ...]
    shared: int = 0

    @classmethod
    def learn(cls, cells: pl.Series) -> Self:
        """The most frequent values; a missing one is a value of its own."""
        filled = cells.cast(pl.String).fill_null(MISSING).alias("value")
        counts = filled.to_frame().group_by("value").agg(n=pl.len())
        values = _most_frequent(counts, MAX_CATEGORIES)
        return cls(cells.name, tuple(values), counts.height - len(values))

    @property
    def names(self) -> list[str]:
        """One for each value."""
        return [f"{self.column}={value}" for value in self.values] + _shared_names(self.column, self.shared)

    @property
    def how(self) -> str:
        """How many, and whether missing is one."""
        has = ", missing as one of its own" if MISSING in self.values else ""
        return f"one-hot of {len(self.values)} categories{has}{_shared_text(self.shared)}"

    def encode(self, cells: pl.Series) -> sparse.csr_array:
        """A value that training lacked, and that shares no feature, is all zeros."""
        texts = cells.cast(pl.String).fill_null(MISSING)
        places = _places(texts, self.values, hashed=self.shared > 0)
        return _one_hot(np.arange(len(texts)), places, (len(texts), len(self.names)))

    @classmethod
    def read(cls, record: dict[str, Any]) -> Self:
        """From JSON."""
        return cls(text_of(record["column"]), texts_of(record["values"]), count_of(record["shared"]))


@dataclass(frozen=True)
class CategoriesEncoding(ColumnEncoding):
    """Multi-hot of lists. values, shared: as of one category; where training had rows without, the last value says
    so."""

    role: ClassVar[Role] = "categories"

    column: str
    values: tuple[str, ...]
    has_missing: bool
    shared: int = 0

    @classmethod
    def learn(cls, cells: pl.Series) -> Self:
        """The most frequent entries of all lists."""
        if cells.dtype != pl.List:
            raise DataError(f"column {cells.name!r} holds no lists; encode it as category", where=cells.name)
        each = cells.explode(empty_as_null=True).drop_nulls().cast(pl.String).alias("value")
        counts = each.to_frame().group_by("value").agg(n=pl.len())
        values, has_missing = _most_frequent(counts, MAX_CATEGORIES), cells.null_count() > 0
        own = [*values, MISSING] if has_missing else values
        return cls(cells.name, tuple(own), has_missing, counts.height - len(values))

    @property
    def names(self) -> list[str]:
        """One for each value."""
        return [f"{self.column}:{value}" for value in self.values] + _shared_names(self.column, self.shared)

    @property
    def how(self) -> str:
        """How many, and whether missing is one."""
        has = ", missing as one of its own" if self.has_missing else ""
        return f"multi-hot of {len(self.values) - self.has_missing} categories{has}{_shared_text(self.shared)}"

    def encode(self, cells: pl.Series) -> sparse.csr_array:
        """1 for each different entry."""
        lists = cells.cast(pl.List(pl.String)).to_list()
        pairs = [
            (row, value)
            for row, values in enumerate(lists)
            for value in dict.fromkeys([MISSING] if values is None else values)
        ]
        texts = pl.Series([value for _, value in pairs], dtype=pl.String)
        places = _places(texts, self.values, hashed=self.shared > 0)
        rows = np.array([row for row, _ in pairs], dtype=np.int64)
        whole = _one_hot(rows, places, (len(lists), len(self.names)))
        # two values of a row may share a feature
        whole.data[:] = 1
        return whole

    @classmethod
    def read(cls, record: dict[str, Any]) -> Self:
        """From JSON."""
        column, values = text_of(record["column"]), texts_of(record["values"])
        return cls(column, values, truth_of(record["has_missing"]), count_of(record["shared"]))


@dataclass(frozen=True)
class TextEncoding(ColumnEncoding):
    """tf * (ln((1 + n) / (1 + df)) + 1), rows scaled to length one (Salton, Buckley 1988, with smoothed idf)."""

    role: ClassVar[Role] = "text"

    column: str
    words: tuple[str, ...]
    idf: tuple[float, ...]

    @classmethod
    def learn(cls, cells: pl.Series) -> Self:
        """Words that stand in several rows."""
        rows = [words(text) for text in cells.to_list()]
        seen = pl.DataFrame({"value": [word for row in rows for word in set(row)]}, schema={"value": pl.String})
        counts = seen.group_by("value").agg(n=pl.len()).filter(pl.col("n") >= MIN_WORD_ROWS)
        kept = _most_frequent(counts, MAX_WORDS)
        in_rows = dict(zip(counts["value"].to_list(), counts["n"].to_list(), strict=True))
        idf = tuple(float(np.log((1 + len(rows)) / (1 + in_rows[word])) + 1) for word in kept)
        return cls(cells.name, tuple(kept), idf)

    @property
    def names(self) -> list[str]:
        """One for each word."""
        return [f"{self.column}~{word}" for word in self.words]

    @property
    def how(self) -> str:
        """How many words."""
        return f"TF-IDF of {len(self.words)} words that stand in at least {MIN_WORD_ROWS} rows; missing has none"

    def encode(self, cells: pl.Series) -> sparse.csr_array:
        """Words that training lacked are passed over."""
        place = {word: at for at, word in enumerate(self.words)}
        terms = [[place[word] for word in words(text) if word in place] for text in cells.to_list()]
        lengths = [len(row) for row in terms]
        places = np.fromiter((at for row in terms for at in row), dtype=np.int64, count=sum(lengths))
        shares = (np.array(self.idf)[places], (np.repeat(np.arange(len(terms)), lengths), places))
        table = sparse.coo_array(shares, shape=(len(terms), len(self.words))).tocsr()
        norms = np.sqrt(np.asarray(table.multiply(table).sum(axis=1)).ravel())
        return sparse.csr_array(sparse.diags_array(1 / np.where(norms > 0, norms, 1)) @ table)

    @classmethod
    def read(cls, record: dict[str, Any]) -> Self:
        """From JSON."""
        idf = tuple(number_of(each) for each in record["idf"])
        kept = texts_of(record["words"])
        if len(idf) != len(kept):
            raise ValueError("every word needs a weight")
        return cls(text_of(record["column"]), kept, idf)


ENCODINGS: dict[str, type[ColumnEncoding]] = {
    each.role: each
    for each in (CategoryEncoding, CategoriesEncoding, NumberEncoding, FlagEncoding, DateEncoding, TextEncoding)
}


def read_encoding(record: Any) -> ColumnEncoding:
    """What `record` of any of them wrote. Raises ValueError, TypeError or KeyError where it is not."""
    if not isinstance(record, dict) or record.get("role") not in ENCODINGS:
        raise ValueError("there is no such role")
    return ENCODINGS[record["role"]].read(record)


def words(text: str | None) -> list[str]:
    """Lower-case words of a text: letters and digits, with an inner apostrophe."""
    return WORD.findall(text.lower()) if text else []


def _one_hot(rows: np.ndarray, places: np.ndarray, shape: tuple[int, int]) -> sparse.csr_array:
    known = places >= 0
    cells = (np.ones(int(known.sum()), np.float32), (rows[known], places[known]))
    return sparse.coo_array(cells, shape=shape).tocsr()


def _most_frequent(counts: pl.DataFrame, most: int) -> list[str]:
    """The most frequent values, then in alphabetical order."""
    return sorted(counts.sort("n", "value", descending=[True, False]).head(most)["value"].to_list())


def _shared_names(column: str, shared: int) -> list[str]:
    """Features of the values that have none of their own, where there are any."""
    return [f"{column} (hashed {bucket})" for bucket in range(BUCKETS)] if shared else []


def _shared_text(shared: int) -> str:
    return f"; {shared:,} others share {BUCKETS} by a hash" if shared else ""


def _places(texts: pl.Series, values: tuple[str, ...], *, hashed: bool) -> np.ndarray:
    """The feature of every text, -1 for none: int64 (n,). hashed: what has none of its own has that of its bucket."""
    place = {value: at for at, value in enumerate(values)}
    places = np.array([place.get(text, -1) for text in texts.to_list()], dtype=np.int64)
    if hashed:
        others = places < 0
        places[others] = len(place) + buckets_of(texts.filter(pl.Series(others)))
    return places
