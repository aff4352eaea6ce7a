"""How the cells of one column become features: a small record for each role, learned from training rows, that can be
kept with a model and read back."""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from dataclasses import asdict, dataclass
from typing import Any, ClassVar, Literal, Self

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


class ColumnEncoding(ABC):
    """What was learned of one column."""

    role: ClassVar[Role]
    column: str

    @classmethod
    @abstractmethod
    def learn(cls, cells: pl.Series) -> Self:
        """Learn from the cells of training rows, which carry the column's name. Raises DataError where they do not fit
        the role."""

    @property
    @abstractmethod
    def names(self) -> list[str]:
        """The name of each feature."""

    @property
    @abstractmethod
    def how(self) -> str:
        """How cells are encoded, in words."""

    @abstractmethod
    def encode(self, cells: pl.Series) -> sparse.csr_array:
        """Features of any cells: float32 (n, n_features)."""

    def record(self) -> dict[str, Any]:
        """As JSON."""
        return {"role": self.role} | asdict(self)  # type: ignore[call-overload]

    @classmethod
    @abstractmethod
    def read(cls, record: dict[str, Any]) -> Self:
        """Written by `record`. Raises ValueError, TypeError or KeyError where it is not."""


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
        return cls(_text(record["column"]), _texts(record["values"]), _count(record["shared"]))


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
        column, values = _text(record["column"]), _texts(record["values"])
        return cls(column, values, _truth(record["has_missing"]), _count(record["shared"]))


@dataclass(frozen=True)
class NumberEncoding(ColumnEncoding):
    """(x - mean) / deviation of the training rows; a missing one takes the median and sets an indicator."""

    role: ClassVar[Role] = "number"

    column: str
    mean: float
    deviation: float
    median: float
    has_missing: bool

    @classmethod
    def learn(cls, cells: pl.Series) -> Self:
        """Mean and deviation with the median for what is missing."""
        known = cls.read_numbers(cells).drop_nulls().to_numpy()
        if not len(known):
            raise DataError(f"column {cells.name!r} holds nothing in the training rows", where=cells.name)
        median = float(np.median(known))
        filled = np.concatenate([known, np.full(cells.null_count(), median)])
        return cls(cells.name, float(filled.mean()), float(filled.std()) or 1.0, median, cells.null_count() > 0)

    @staticmethod
    def read_numbers(cells: pl.Series) -> pl.Series:
        """Cells as numbers."""
        return cells.cast(pl.Float64)

    @property
    def names(self) -> list[str]:
        """The number, and the indicator where training had gaps."""
        return [self.column, f"{self.column} {MISSING}"] if self.has_missing else [self.column]

    @property
    def how(self) -> str:
        """By which mean and deviation."""
        what = " as days" if self.role == "date" else ""
        gap = f"; missing takes the median {self.median:g} and an indicator" if self.has_missing else ""
        return f"scaled{what}: mean {self.mean:.4g}, deviation {self.deviation:.4g}{gap}"

    def encode(self, cells: pl.Series) -> sparse.csr_array:
        """Scaled as training was."""
        numbers = (self.read_numbers(cells).fill_null(self.median).to_numpy() - self.mean) / self.deviation
        columns = [numbers, cells.is_null().to_numpy()] if self.has_missing else [numbers]
        return sparse.csr_array(np.column_stack(columns).astype(np.float32))

    @classmethod
    def read(cls, record: dict[str, Any]) -> Self:
        """From JSON."""
        mean, deviation, median = (_number(record[name]) for name in ("mean", "deviation", "median"))
        if deviation <= 0:
            raise ValueError("a deviation must be above 0")
        return cls(_text(record["column"]), mean, deviation, median, _truth(record["has_missing"]))


@dataclass(frozen=True)
class DateEncoding(NumberEncoding):
    """The same of days."""

    role: ClassVar[Role] = "date"

    @staticmethod
    def read_numbers(cells: pl.Series) -> pl.Series:
        """Days since 1970."""
        return cells.cast(pl.Date).cast(pl.Int32).cast(pl.Float64)


@dataclass(frozen=True)
class FlagEncoding(ColumnEncoding):
    """0 or 1, and an indicator of what is missing."""

    role: ClassVar[Role] = "flag"

    column: str
    has_missing: bool

    @classmethod
    def learn(cls, cells: pl.Series) -> Self:
        """Whether there are gaps."""
        return cls(cells.name, cells.null_count() > 0)

    @property
    def names(self) -> list[str]:
        """The flag, and the indicator where training had gaps."""
        return [self.column, f"{self.column} {MISSING}"] if self.has_missing else [self.column]

    @property
    def how(self) -> str:
        """What a gap is."""
        return "0 or 1" + ("; missing is 0 and an indicator" if self.has_missing else "")

    def encode(self, cells: pl.Series) -> sparse.csr_array:
        """A gap is 0."""
        columns = [cells.fill_null(False).cast(pl.Float32).to_numpy()]
        if self.has_missing:
            columns.append(cells.is_null().cast(pl.Float32).to_numpy())
        return sparse.csr_array(np.column_stack(columns).astype(np.float32))

    @classmethod
    def read(cls, record: dict[str, Any]) -> Self:
        """From JSON."""
        return cls(_text(record["column"]), _truth(record["has_missing"]))


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
        idf = tuple(_number(each) for each in record["idf"])
        kept = _texts(record["words"])
        if len(idf) != len(kept):
            raise ValueError("every word needs a weight")
        return cls(_text(record["column"]), kept, idf)


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


def _text(given: object) -> str:
    if not isinstance(given, str):
        raise TypeError("a name must be a text")
    return given


def _texts(given: object) -> tuple[str, ...]:
    if not isinstance(given, list) or not all(isinstance(each, str) for each in given):
        raise TypeError("values must be texts")
    if len(set(given)) < len(given):
        raise ValueError("a value stands there twice")
    return tuple(given)


def _truth(given: object) -> bool:
    if not isinstance(given, bool):
        raise TypeError("a mark must be true or false")
    return given


def _number(given: object) -> float:
    if isinstance(given, bool) or not isinstance(given, int | float) or not np.isfinite(given):
        raise TypeError("a number must be finite")
    return float(given)


def _count(given: object) -> int:
    if isinstance(given, bool) or not isinstance(given, int) or given < 0:
        raise TypeError("a count must be a whole number of at least 0")
    return given
