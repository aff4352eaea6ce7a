"""Nearest items, or users, by any of the likenesses: the part that all neighbourhood models share."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy import sparse

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.ties import tie_order
from gleaner.core.errors import ParameterError
from gleaner.core.kernels import neighbours as kernels
from gleaner.core.models.base.capabilities import LikenessTable
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.watching import Watch
from gleaner.core.parallel import balanced_ranges, default_threads, run_ranges

SIMILARITY_MEANS = "how likeness is measured: cosine, jaccard or log_likelihood"
"""What the parameter means, for the families that compare who has what."""
RANGES = 128
Cells = tuple[np.ndarray, np.ndarray, np.ndarray]
"""indptr, entries, values of a CSR matrix."""

Similarity = Literal[
    "cosine", "jaccard", "log_likelihood", "confidence", "lift", "support",
    "pearson", "adjusted_cosine", "cosine_in_common", "mean_squared_difference", "euclidean",
]  # fmt: skip
RULES = {
    "cosine": kernels.COSINE,
    "jaccard": kernels.JACCARD,
    "log_likelihood": kernels.LOG_LIKELIHOOD,
    "confidence": kernels.CONFIDENCE,
    "lift": kernels.LIFT,
    "support": kernels.SUPPORT,
    "pearson": kernels.PEARSON,
    "adjusted_cosine": kernels.ADJUSTED,
    "cosine_in_common": kernels.ADJUSTED,
    "mean_squared_difference": kernels.MSD,
    "euclidean": kernels.EUCLIDEAN,
}
OF_VALUES = ("pearson", "adjusted_cosine", "cosine_in_common", "mean_squared_difference", "euclidean")
"""Likenesses that compare the values where both have one."""


@dataclass(frozen=True)
class Rule:
    """How alike two rows are: a likeness, times n / (n + shrinkage) for n in common, from `least` in common on.

    asymmetry: for cosine, the power 2a of the row's own norm and 2 (1 - a) of the neighbour's; 0.5 is plain cosine
    (Aiolli 2013). signed: rows that differ are neighbours too, with a likeness below 0.
    """

    similarity: Similarity
    shrinkage: float = parameter(0.0, "likeness times n / (n + shrinkage), n in common")
    least: int = 1
    asymmetry: float = parameter(0.5, "power of the own norm against the neighbour's in the cosine; 0.5 is symmetric")
    signed: bool = False

    @property
    def number(self) -> int:
        """What the kernels call it."""
        return RULES[self.similarity]

    @property
    def compares_values(self) -> bool:
        """Whether only what both have counts."""
        return self.similarity in OF_VALUES


@dataclass(frozen=True, eq=False)
class ComparedRows:
    """What a neighbourhood compares: rows of a CSR matrix, how many entries a row could have, the rule, and what that
    is in words."""

    cells: Cells
    n_others: int
    rule: Rule
    by: str

    def row(self, row: int) -> tuple[np.ndarray, np.ndarray]:
        """The entries of one row and their values, float64."""
        indptr, others, values = self.cells
        lo, hi = indptr[row], indptr[row + 1]
        return others[lo:hi], values[lo:hi].astype(np.float64)


class ComparesRows(ABC):
    """Its likeness is a rule over rows of numbers, which can be worked by hand."""

    @abstractmethod
    def compared_rows(self, side: Literal["item", "user"]) -> ComparedRows | None:
        """What is compared; None on the side that this model does not compare."""


@dataclass(frozen=True, eq=False)
class Nearest:
    """Lists of neighbours. near int32 (n_rows, k), -1 behind the last; likeness float32 and overlap int32 there."""

    near: np.ndarray
    likeness: np.ndarray
    overlap: np.ndarray

    def row(self, row: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Neighbours of one row, their likeness, and how much they have in common."""
        used = self.near[row] >= 0
        return self.near[row][used], self.likeness[row][used], self.overlap[row][used]

    def turned(self) -> Cells:
        """For every row the rows that count it among their nearest, with their likeness, as CSR."""
        used = self.near >= 0
        shape = (len(self.near), len(self.near))
        table = sparse.csr_array((self.likeness[used], (np.nonzero(used)[0], self.near[used])), shape=shape)
        turned = table.T.tocsr()
        return turned.indptr.astype(np.int64), turned.indices.astype(np.int32), turned.data

    def lists(self) -> Cells:
        """The lists as CSR, nearest first."""
        used = self.near >= 0
        bounds = np.concatenate([[0], np.cumsum(used.sum(axis=1))]).astype(np.int64)
        return bounds, self.near[used], self.likeness[used]


def nearest_layout(n_rows: int, n_others: int) -> Layout:
    """What the arrays of lists of neighbours must be, for a file: as `Nearest` has them. n_others: how many entries a
    row can have in common with another."""
    return {
        "near": ArraySpec("int32", (n_rows, "neighbours"), low=-1, below=n_rows),
        "likeness": ArraySpec("float32", (n_rows, "neighbours")),
        "overlap": ArraySpec("int32", (n_rows, "neighbours"), low=0, below=n_others + 1),
    }


def require_similarity(name: str, allowed: tuple[str, ...]) -> None:
    """Raise ParameterError unless the name is allowed."""
    if name not in allowed:
        raise ParameterError(f"similarity must be one of {', '.join(allowed)}, not {name!r}", where="similarity")


def sizes(cells: Cells, rule: Rule) -> tuple[np.ndarray, np.ndarray]:
    """What the kernel divides by: norms to their powers for cosine, else counts. float32 (n_rows,) twice."""
    indptr, _, values = cells
    if rule.similarity == "cosine":
        squares = np.add.reduceat(np.append(values.astype(np.float64) ** 2, 0.0), indptr[:-1])
        squares[np.diff(indptr) == 0] = 0
        norms = np.sqrt(squares)
        return (norms ** (2 * rule.asymmetry)).astype(np.float32), (norms ** (2 - 2 * rule.asymmetry)).astype(
            np.float32
        )
    counts = np.diff(indptr).astype(np.float32)
    return counts, counts


def nearest(cells: Cells, turned: Cells, ids: IdMap, k: int, rule: Rule, watch: Watch) -> Nearest:
    """The k nearest rows of every row of a CSR matrix; `turned` is its transpose. Cost: the sum over entries of their
    squared length; memory rows x k."""
    indptr, others, values = cells
    n_rows = len(indptr) - 1
    k = min(k, max(1, n_rows - 1))
    kept = Nearest(
        np.full((n_rows, k), -1, np.int32), np.zeros((n_rows, k), np.float32), np.zeros((n_rows, k), np.int32)
    )
    order = tie_order(ids)
    out = (np.float32(rule.shrinkage), np.int32(rule.least), order, kept.near, kept.likeness, kept.overlap)
    left, right = (None, None) if rule.compares_values else sizes(cells, rule)

    def work(lo: int, hi: int) -> None:
        if rule.compares_values:
            kernels.nearest_by_common(lo, hi, indptr, others, values, *turned, rule.number, rule.signed, *out)
        else:
            kernels.nearest_by_product(lo, hi, indptr, others, values, *turned, left, right, rule.number, *out)

    # a row costs the lengths of all it meets through its entries, so that is what the ranges are balanced by
    lengths = np.diff(turned[0])
    cost = np.concatenate([[0], np.cumsum(lengths[others])])[indptr]
    ranges = balanced_ranges(cost.astype(np.int64), RANGES * default_threads())
    run_ranges(work, ranges, progress=watch.part(0.0, 1.0))
    return kept


def likeness_of_one(entries: np.ndarray, values: np.ndarray, cells: Cells, n_others: int, rule: Rule) -> Nearest:
    """Likeness of one more row, given by its entries, to every row of a CSR matrix: one row of n_rows columns. Who
    differs is no neighbour, unless the rule is signed."""
    table = likeness_to_all(entries, values, cells, n_others, rule)
    alike = table.likeness if rule.signed else np.maximum(table.likeness, 0)
    near = np.where(alike != 0, np.arange(len(alike)), -1).astype(np.int32)
    return Nearest(near[None], alike[None], table.overlap[None].astype(np.int32))


def likeness_to_all(entries: np.ndarray, values: np.ndarray, cells: Cells, n_others: int, rule: Rule) -> LikenessTable:
    """How alike every row of a CSR matrix is to one more, given by its entries."""
    indptr, others, _ = cells
    n_rows = len(indptr) - 1
    own_values = np.zeros(n_others)
    own_values[entries] = values
    has = np.zeros(n_others, dtype=bool)
    has[entries] = True
    common = has[others]
    rows = np.repeat(np.arange(n_rows), np.diff(indptr))[common]
    y, x = cells[2][common].astype(np.float64), own_values[others[common]]
    add = {name: np.bincount(rows, weights, minlength=n_rows) for name, weights in _sums(x, y).items()}
    table = np.column_stack(list(add.values()))
    count = table[:, 0].astype(np.int64)
    raw, shrunk = np.zeros(n_rows), np.zeros(n_rows, dtype=np.float32)
    mine = sizes((np.array([0, len(values)]), entries, values), rule)[0][0]
    size = sizes(cells, rule)[1]
    for row in np.flatnonzero(count >= rule.least):
        if rule.compares_values:
            plain = kernels.likeness_by_common(rule.number, table[row])
        else:
            plain = kernels.likeness_by_product(rule.number, table[row, 5], count[row], mine, size[row], n_others)
        raw[row], shrunk[row] = plain, plain * count[row] / (count[row] + rule.shrinkage)
    return LikenessTable(raw, shrunk, count)


def _sums(x: np.ndarray, y: np.ndarray) -> dict[str, np.ndarray]:
    return {"n": np.ones_like(x), "x": x, "y": y, "xx": x * x, "yy": y * y, "xy": x * y}


def of_matrix(matrix: InteractionMatrix, values: np.ndarray) -> Cells:
    """The CSR of users with these values in place of the matrix's."""
    return matrix.indptr, matrix.indices, values.astype(np.float32, copy=False)


def transpose(cells: Cells, n_columns: int) -> Cells:
    """The transpose of a CSR matrix; explicit zeros stay."""
    indptr, entries, values = cells
    places = sparse.csr_array(
        (np.arange(len(values), dtype=np.int64), entries, indptr), shape=(len(indptr) - 1, n_columns)
    )
    turned = places.tocsc()
    return turned.indptr.astype(np.int64), turned.indices.astype(np.int32), values[turned.data]
