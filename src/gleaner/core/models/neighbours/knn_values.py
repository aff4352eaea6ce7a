"""Neighbourhood models that predict values: mean-centred weighted averages over neighbours."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Literal, Self

import numpy as np
from scipy import sparse

from gleaner.core.data.array_checks import Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import ParameterError, require_range
from gleaner.core.models.base.capabilities import (
    ComparesByHand,
    Explains,
    FoldsIn,
    FoldsInItems,
    LikenessTable,
    Terms,
)
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.likeness import (
    Cells,
    ComparedRows,
    ComparesRows,
    Nearest,
    Rule,
    Similarity,
    likeness_of_one,
    likeness_to_all,
    nearest,
    nearest_layout,
    of_matrix,
    require_similarity,
    transpose,
)
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, learned
from gleaner.core.models.base.values import ValueModel
from gleaner.core.models.base.watching import Watch

ValueSimilarity = Literal[
    "pearson", "adjusted_cosine", "cosine", "mean_squared_difference", "euclidean", "cosine_whole", "jaccard"
]
SIMILARITIES = (
    "pearson", "adjusted_cosine", "cosine", "mean_squared_difference", "euclidean", "cosine_whole", "jaccard",
)  # fmt: skip
VALUE_SIMILARITY_MEANS = f"how likeness is measured: {', '.join(SIMILARITIES[:-1])} or {SIMILARITIES[-1]}"
RULES: dict[str, Similarity] = {"cosine": "cosine_in_common", "cosine_whole": "cosine"}
"""What a name of these families is called where neighbours are sought, if that is another."""

MEANINGS = {
    "pearson": "Pearson's correlation of the values both have",
    "adjusted_cosine": "the cosine of the values both have, less the other side's mean",
    "cosine": "the cosine of the values both have",
    "mean_squared_difference": "1 / (1 + mean squared difference of the values both have)",
    "euclidean": "1 / (1 + distance of the values both have)",
    "cosine_whole": "the cosine of all values, what one lacks read as 0",
    "jaccard": "the share of what either has that both have",
}


@dataclass(repr=False)
class KnnValues(ValueModel, FoldsIn, FoldsInItems, Explains, ComparesByHand, ComparesRows):
    """What the two directions share. A "row" is what neighbours are sought for, an "other" what they are met through.

    r_ab = mean_a + sum over the neighbours c of a that met b of s_ac (r_cb - mean_c) / sum of |s_ac|, with the k
    nearest of a kept (Resnick et al. 1994; Herlocker, Konstan, Borchers, Riedl 1999). s is n / (n + shrinkage) times

    - pearson: correlation over the n both have; without shrinkage two in common make perfect friends
    - adjusted_cosine: values less the other side's mean, cosine over what both have (Sarwar et al. 2001)
    - cosine: of the values both have, as they are
    - mean_squared_difference: 1 / (1 + mean squared difference); euclidean: 1 / (1 + distance); over what both have
    - cosine_whole: over all values of each, which reads what is missing as 0
    - jaccard of what was met, whatever the value

    differing: who has a likeness below 0 is `left_out`, or counted `signed`: what they like then speaks against it, and
    the k whose likeness is furthest from 0 are kept."""

    by_user: ClassVar[bool]

    neighbours: int = parameter(200, "nearest kept")
    similarity: ValueSimilarity = parameter("pearson", VALUE_SIMILARITY_MEANS)
    shrinkage: float = parameter(10.0, "likeness times n / (n + shrinkage), n in common")
    min_common: int = parameter(2, "fewer in common do not count")
    differing: Literal["left_out", "signed"] = parameter(
        "left_out", "what becomes of those whose likeness is below 0: `left_out`, or counted `signed`"
    )
    nearest_: Nearest = learned(lambda: Nearest(*3 * [np.empty((0, 0), np.int32)]))
    rows_: Cells = learned(tuple)
    means_: np.ndarray = learned(lambda: np.empty(0))

    def __post_init__(self) -> None:
        require_range("neighbours", self.neighbours, 1, 10_000, whole=True)
        if self.similarity == "msd":
            # its name of before, in files and models that are kept
            self.similarity = "mean_squared_difference"
        require_similarity(self.similarity, SIMILARITIES)
        require_range("shrinkage", self.shrinkage, 0)
        require_range("min_common", self.min_common, 1, whole=True)
        if self.differing not in ("left_out", "signed"):
            raise ParameterError(f"differing must be left_out or signed, not {self.differing!r}", where="differing")

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """The sum over the other side of squared lengths."""
        others, rows = (shape[1], shape[0]) if cls.by_user else (shape[0], shape[1])
        return Cost(30.0 * cells**2 / others, 12.0 * params["neighbours"] * rows + 30.0 * cells)

    @property
    def rule(self) -> Rule:
        """The likeness asked for."""
        name, signed = RULES.get(self.similarity, self.similarity), self.differing == "signed"
        return Rule(name, self.shrinkage, self.min_common, signed=signed)  # type: ignore[arg-type]

    @property
    def compares_by(self) -> str:
        """The likeness asked for, and how it is shrunk."""
        shrunk = f", times n / (n + {self.shrinkage:g}) for n in common" if self.shrinkage else ""
        return MEANINGS[self.similarity] + shrunk

    def likeness_table(self, side: Literal["item", "user"], row: int) -> LikenessTable | None:
        """Likeness to every other of the side that neighbours are sought on."""
        compared = self.compared_rows(side)
        if compared is None:
            return None
        entries, values = compared.row(row)
        return likeness_to_all(entries, values, compared.cells, compared.n_others, self.rule)

    def compared_rows(self, side: Literal["item", "user"]) -> ComparedRows | None:
        """The values of each, or for adjusted cosine values less the other side's mean."""
        if (side == "user") != self.by_user:
            return None
        return ComparedRows(self._compared(), self._n_others, self.rule, self.compares_by)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Find neighbours."""
        self._prepare(train)
        compared = self._compared()
        ids = train.users if self.by_user else train.items
        self.nearest_ = nearest(compared, transpose(compared, self._n_others), ids, self.neighbours, self.rule, watch)

    def _prepare(self, train: InteractionMatrix) -> None:
        self.learn_biases(train)
        self.rows_ = of_matrix(train, train.values) if self.by_user else train.by_item
        indptr, _, values = self.rows_
        rows = np.repeat(np.arange(len(indptr) - 1), np.diff(indptr))
        counts = np.maximum(np.diff(indptr), 1)
        self.means_ = np.bincount(rows, values.astype(np.float64), minlength=len(counts)) / counts
        self.means_[np.diff(indptr) == 0] = self.biases_.mean
        centred = values - self.means_[rows]
        shape = (len(indptr) - 1, self._n_others)
        # an entry equal to its mean must stay an entry: 1 marks it in a matrix of its own
        self._centred = sparse.csr_array((centred, self.rows_[1], indptr), shape=shape)
        self._marks = sparse.csr_array((np.ones(len(values)), self.rows_[1], indptr), shape=shape)

    @property
    def _n_others(self) -> int:
        train = self.trained_on
        return len(train.items) if self.by_user else len(train.users)

    def _compared(self) -> Cells:
        """What likeness is computed of: values, or for adjusted cosine values less the other side's mean."""
        if self.similarity != "adjusted_cosine":
            return self.rows_
        indptr, others, values = self.rows_
        return indptr, others, (values - self._other_means()[others]).astype(np.float32)

    def _other_means(self) -> np.ndarray:
        """Mean value of every other: float64 (n_others,)."""
        _, others, values = self.rows_
        sums = np.bincount(others, values.astype(np.float64), minlength=self._n_others)
        return sums / np.maximum(np.bincount(others, minlength=self._n_others), 1)

    def _neighbours(self) -> sparse.csr_array:
        bounds, near, alike = self.nearest_.lists()
        return sparse.csr_array((alike.astype(np.float64), near, bounds), shape=2 * (len(self.means_),))

    def predict_rows(self, rows: np.ndarray) -> np.ndarray:
        """Predictions of some rows for every other, NaN where no neighbour met it: float64 (n, n_others)."""
        lists = self._neighbours()[rows]
        return self._average(lists @ self._centred, abs(lists) @ self._marks, self.means_[rows][:, None])

    @staticmethod
    def _average(top: Any, bottom: Any, mean: np.ndarray) -> np.ndarray:
        top, bottom = (part.toarray() if sparse.issparse(part) else part for part in (top, bottom))
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(bottom > 0, mean + top / bottom, np.nan)

    def predict(self, users: np.ndarray, items: np.ndarray) -> np.ndarray:
        """The formula, pair by pair."""
        rows, others = (users, items) if self.by_user else (items, users)
        out = np.full(len(rows), np.nan, dtype=np.float32)
        for row in np.unique(rows):
            mine = np.flatnonzero(rows == row)
            out[mine] = self.predict_rows(np.array([row]))[0, others[mine]]
        return out

    def terms(self, user_row: int, item_row: int) -> Terms | None:
        """The prediction before the clip: the row's mean plus likeness * (value - mean) over the sum of likeness."""
        row, other = (user_row, item_row) if self.by_user else (item_row, user_row)
        near, alike, overlap = self.nearest_.row(row)
        indptr, others, values = self.rows_
        value = np.full(len(near), np.nan)
        for place, mate in enumerate(near):
            at = np.flatnonzero(others[indptr[mate] : indptr[mate + 1]] == other)
            if len(at):
                value[place] = values[indptr[mate] + at[0]]
        met = ~np.isnan(value)
        if not met.any():
            return None
        likeness, mean = alike[met].astype(np.float64), self.means_[near[met]]
        centred = value[met] - mean
        columns = {"likeness": likeness, "overlap": overlap[met].astype(np.float64), "value": value[met], "mean": mean}
        columns |= {"centred": centred, "weight": likeness / abs(likeness).sum()}
        columns["adds"] = columns["weight"] * centred
        formula = f"(value - mean) * likeness / sum of {'|likeness|' if self.rule.signed else 'likeness'}"
        return Terms("user" if self.by_user else "item", near[met], columns, formula, float(self.means_[row]))

    def _filled(self, predicted: np.ndarray, users: np.ndarray, items: np.ndarray) -> np.ndarray:
        """Predictions for ranking: biases where no neighbour says anything."""
        return np.where(np.isnan(predicted), self.biases_.at(users, items), predicted).astype(np.float32)

    def _across(self, entries: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Predictions of one more other, met by some rows, for every row: float64 (n_rows,), NaN where none."""
        centred, marks = np.zeros(len(self.means_)), np.zeros(len(self.means_))
        centred[entries], marks[entries] = values - self.means_[entries], 1
        lists = self._neighbours()
        return self._average(lists @ centred, abs(lists) @ marks, self.means_)

    def _predict_more(self, entries: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Predictions of one more row, from its entries, for every other: float64 (n_others,), NaN where none."""
        compared = values.astype(np.float64)
        if self.similarity == "adjusted_cosine":
            compared = compared - self._other_means()[entries]
        alike = likeness_of_one(entries, compared, self._compared(), self._n_others, self.rule).likeness[0]
        alike[np.argsort(-abs(alike), kind="stable")[self.neighbours :]] = 0
        alike = alike.astype(np.float64)
        mean = np.asarray(values.mean(dtype=np.float64))
        return self._average(alike @ self._centred, abs(alike) @ self._marks, mean)

    def scores_of(self, representation: np.ndarray) -> np.ndarray:
        """The predictions, for ranking."""
        return self._filled(representation, np.full(1, -1), np.arange(len(representation)))

    def scores_of_item(self, representation: np.ndarray) -> np.ndarray:
        """The predictions, for ranking."""
        return self._filled(representation, np.arange(len(representation)), np.full(1, -1))

    def state(self) -> Arrays:
        """The lists of neighbours."""
        return {"near": self.nearest_.near, "likeness": self.nearest_.likeness, "overlap": self.nearest_.overlap}

    def layout(self, train: InteractionMatrix) -> Layout:
        """Lists of users or items."""
        n_users, n_items = train.shape
        return nearest_layout(n_users, n_items) if self.by_user else nearest_layout(n_items, n_users)

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load the lists."""
        self._prepare(train)
        self.nearest_ = Nearest(arrays["near"], arrays["likeness"], arrays["overlap"])
        return self


@dataclass(repr=False)
class UserKnnValues(KnnValues):
    __doc__ = KnnValues.__doc__

    family: ClassVar[str] = "user_knn_values"
    summary: ClassVar[str] = "the values of the most similar users, each centred on their own mean"
    source: ClassVar[str] = "Resnick, Iacovou, Suchak, Bergstrom, Riedl 1994; Herlocker et al. 1999"
    unfit: ClassVar[str] = "users with few values: nothing in common with anyone"
    effort: ClassVar[str] = "as user_knn, with six sums a pair"
    by_user: ClassVar[bool] = True

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """Predicted values, without the clip."""
        items = np.arange(len(self.trained_on.items))[None]
        return self._filled(self.predict_rows(user_rows), user_rows[:, None], items)

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Predictions for every item, NaN where none: float64 (n_items,)."""
        return self._predict_more(np.asarray(item_rows), np.asarray(values))

    def fold_in_item(self, user_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Predictions for every user, NaN where none: float64 (n_users,)."""
        return self._across(np.asarray(user_rows), np.asarray(values))


@dataclass(repr=False)
class ItemKnnValues(KnnValues):
    __doc__ = KnnValues.__doc__

    family: ClassVar[str] = "item_knn_values"
    summary: ClassVar[str] = "the user's own values of the most similar items, each centred on the item's mean"
    source: ClassVar[str] = "Sarwar, Karypis, Konstan, Riedl 2001"
    unfit: ClassVar[str] = "items with few values"
    effort: ClassVar[str] = "as item_knn, with six sums a pair"
    by_user: ClassVar[bool] = False

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """Predicted values, without the clip."""
        lists = self._neighbours()
        centred, marks = self._centred[:, user_rows], self._marks[:, user_rows]
        predicted = self._average(lists @ centred, lists @ marks, self.means_[:, None]).T
        return self._filled(predicted, np.asarray(user_rows)[:, None], np.arange(len(self.means_))[None])

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Predictions for every item, NaN where none: float64 (n_items,)."""
        return self._across(np.asarray(item_rows), np.asarray(values))

    def fold_in_item(self, user_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Predictions for every user, NaN where none: float64 (n_users,)."""
        return self._predict_more(np.asarray(user_rows), np.asarray(values))
