"""What items at one end of a factor have in common, by the columns of their table."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import polars as pl
import scipy.sparse as sp
from scipy.stats import rankdata

MOST_VALUES = 200
"""Columns of more values than this name items one by one, and say nothing about many."""
STANDS_OUT = 4.0
"""Standard errors from all items. Some thousand values and ends are looked at; of those that mean nothing one in
30,000 is as far off."""


@dataclass(frozen=True)
class Trait:
    """What some items have in common. value: what their column says; None for a column of numbers. here, overall: the
    share of these and of all items that have it; of numbers, the middle of these and of all. sureness: how many
    standard errors these are from all."""

    column: str
    value: str | None
    here: float
    overall: float
    sureness: float


class TraitTable:
    """The columns of all items, put so that many groups of items can be told from the rest quickly."""

    def __init__(self, columns: pl.DataFrame) -> None:
        """columns: one row for each item in the order of the model's rows. Those of text, flags and categories are
        compared by how many have a value, those of numbers by rank; others are left out."""
        self.n_items = columns.height
        self._flags: list[tuple[str, str]] = []
        self._numbers: dict[str, np.ndarray] = {}
        rows, codes = [], []
        for name, dtype in columns.schema.items():
            if dtype.is_numeric():
                self._numbers[name] = columns[name].cast(pl.Float64).to_numpy()
            elif dtype in (pl.String, pl.Boolean, pl.List(pl.String)):
                values, of_rows, of_codes = _values_of(columns[name])
                if 1 < len(values) <= MOST_VALUES:
                    rows.append(of_rows)
                    codes.append(of_codes + len(self._flags))
                    self._flags += [(name, value) for value in values]
        self._ranks = {name: rankdata(values, nan_policy="omit") for name, values in self._numbers.items()}
        at = (np.concatenate(rows), np.concatenate(codes)) if rows else (np.empty(0, int), np.empty(0, int))
        shape = (self.n_items, len(self._flags))
        self._has = sp.csr_matrix((np.ones(len(at[0]), dtype=np.float64), at), shape=shape)
        self._counts = np.asarray(self._has.sum(axis=0)).ravel()

    def of_ends(self, high: np.ndarray, low: np.ndarray, most: int) -> tuple[list[Trait], list[Trait]]:
        """The traits of the items at two ends, the surest first. What both ends have alike tells neither from the
        other and is left out: items far out on any factor are those that many users have."""
        one, other = self.of(high), self.of(low)
        both = {_kind(trait) for trait in one} & {_kind(trait) for trait in other}
        apart = [[each for each in traits if _kind(each) not in both][:most] for traits in (one, other)]
        return apart[0], apart[1]

    def of(self, rows: np.ndarray) -> list[Trait]:
        """The traits by which items stand out, int (n_rows,), the surest first. At most one for each column."""
        found = sorted(self._by_value(rows) + self._by_number(rows), key=lambda trait: -trait.sureness)
        first: dict[str, Trait] = {}
        for trait in found:
            first.setdefault(trait.column, trait)
        return list(first.values())

    def _by_value(self, rows: np.ndarray) -> list[Trait]:
        """Values that more of these items have than so many drawn at random would: by the hypergeometric's spread."""
        n, m = self.n_items, len(rows)
        here, share = np.asarray(self._has[rows].sum(axis=0)).ravel(), self._counts / max(n, 1)
        spread = np.sqrt(m * share * (1 - share) * (n - m) / max(n - 1, 1))
        with np.errstate(divide="ignore", invalid="ignore"):
            sureness = np.where(spread > 0, (here - m * share) / spread, 0.0)
        return [
            Trait(*self._flags[flag], float(here[flag] / m), float(share[flag]), float(sureness[flag]))
            for flag in np.flatnonzero(sureness >= STANDS_OUT)
        ]

    def _by_number(self, rows: np.ndarray) -> list[Trait]:
        """Numbers whose ranks among all items are higher or lower here: by the rank sum's spread, Wilcoxon 1945."""
        traits = []
        for column, values in self._numbers.items():
            known, mine = ~np.isnan(values), rows[~np.isnan(values[rows])]
            n, m = int(known.sum()), len(mine)
            if not 0 < m < n:
                continue
            spread = np.sqrt((n + 1) * (n - m) / (12 * m))
            sureness = abs(self._ranks[column][mine].mean() - (n + 1) / 2) / spread
            if sureness >= STANDS_OUT:
                middles = float(np.median(values[mine])), float(np.median(values[known]))
                traits.append(Trait(column, None, *middles, float(sureness)))
        return traits


def _kind(trait: Trait) -> tuple[str, str | None, bool]:
    """What a trait is of: its column, its value and which way a number is off."""
    return trait.column, trait.value, trait.here > trait.overall


def _values_of(cells: pl.Series) -> tuple[list[str], np.ndarray, np.ndarray]:
    """The values of a column in order, and for each cell that has one its row and the value's place; a cell that is a
    list has several."""
    listed = cells if cells.dtype == pl.List else cells.cast(pl.String).reshape((-1, 1)).arr.to_list()
    frame = pl.DataFrame({"value": listed}).with_row_index("row").explode("value").drop_nulls("value").unique()
    values = frame["value"].unique().sort()
    codes = values.search_sorted(frame["value"])
    return values.to_list(), frame["row"].to_numpy().astype(np.int64), codes.to_numpy().astype(np.int64)
