"""Items that a model never saw, by items like them: until they have interactions of their own."""

from __future__ import annotations

from dataclasses import replace
from functools import cached_property
from typing import Self

import numpy as np
import polars as pl
from scipy import sparse

from gleaner.core.data.array_checks import Layout
from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.feature_encoder import FeatureEncoder
from gleaner.core.data.tables.row_features import Features, lined_up, of_length_one, role_of
from gleaner.core.errors import DataError, InputError, near
from gleaner.core.fitted import Fitted, NewItems
from gleaner.core.models.base.capabilities import (
    Explains,
    Factors,
    FoldsIn,
    HasFactors,
    HasItemLikeness,
    HasUserLikeness,
    Terms,
    factors_of,
    folding,
    item_likeness_of,
    knowing_columns,
    order_matters,
    require_folding,
    terms_of,
    user_likeness_of,
)
from gleaner.core.models.base.protocol import Arrays, Feedback, Model
from gleaner.core.models.base.watching import Watch

BLOCK_CELLS = 4_000_000
"""Likenesses held at a time: 16 MB."""


class WithNewItems(Model, HasFactors, FoldsIn, HasItemLikeness, HasUserLikeness, Explains):
    """score(u, new) = sum over items j of w_j score(u, j), w the likeness by content of the k items most like the new
    one, divided by its sum.

    Whatever the base answers about items that it knows stays as it is; the new ones stand behind them. Someone's new
    items are folded in as the items like them, by the same shares. Made for serving: it is neither fitted nor kept.
    """

    def __init__(self, base: Model, train: InteractionMatrix, shares: sparse.csr_array, by: str) -> None:
        """train: the base's training matrix with the new items behind; shares: w, float32 (n_new, n_known)."""
        self.base, self.train_, self.shares, self.by = base, train, shares, by
        self.n_known = shares.shape[1]

    @property
    def family(self) -> str:  # type: ignore[override]  # a class fact elsewhere, here that of the base
        """The base's."""
        return self.base.family

    @property
    def feedback(self) -> Feedback:  # type: ignore[override]
        """The base's."""
        return self.base.feedback

    @property
    def personal(self) -> bool:  # type: ignore[override]
        """The base's."""
        return self.base.personal

    @property
    def can_fold_in(self) -> bool:
        """Whether the base can."""
        return folding(self.base) is not None

    @property
    def reads_order(self) -> bool:  # type: ignore[override]
        """As the base does."""
        return order_matters(self.base)

    def _behind(self, scores: np.ndarray) -> np.ndarray:
        """Scores of known items, float32 (..., n_known), with those of the new ones behind."""
        return np.concatenate([scores, (self.shares @ scores.T).T.astype(np.float32)], axis=-1)

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """The base's, and their means for the new items."""
        return self._behind(self.base.scores(user_rows))

    def factors(self) -> Factors | None:
        """The base's, and their means for the new items."""
        return self._factors

    @cached_property
    def _factors(self) -> Factors | None:
        base_factors = factors_of(self.base)
        if base_factors is None:
            return None
        new = (self.shares @ base_factors.items).astype(np.float32)
        return Factors(base_factors.users, np.concatenate([base_factors.items, new]), base_factors.biases)

    def item_scores(self, item_rows: np.ndarray) -> np.ndarray:
        """Scores of every user for some items."""
        scores = np.empty((len(item_rows), len(self.trained_on.users)), dtype=np.float32)
        known = item_rows < self.n_known
        scores[known] = self.base.item_scores(item_rows[known])
        for place in np.flatnonzero(~known):
            alike, share = self._alike(int(item_rows[place]))
            scores[place] = share @ self.base.item_scores(alike)
        return scores

    def _alike(self, item_row: int) -> tuple[np.ndarray, np.ndarray]:
        row = item_row - self.n_known
        part = slice(self.shares.indptr[row], self.shares.indptr[row + 1])
        return self.shares.indices[part].astype(np.int32), self.shares.data[part]

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """What they touched that is new counts as the items like it, by their shares."""
        known = item_rows < self.n_known
        rows, cells = item_rows[known], values[known]
        # what is like a new item has no place in an order
        if not known.all() and not self.reads_order:
            parts = [
                (*self._alike(int(row)), value) for row, value in zip(item_rows[~known], values[~known], strict=True)
            ]
            rows = np.concatenate([rows, *(alike for alike, _, _ in parts)])
            cells = np.concatenate([cells, *(share * value for _, share, value in parts)])
            rows, place = np.unique(rows, return_inverse=True)
            cells = np.bincount(place, cells).astype(np.float32)
        return require_folding(self.base).fold_in(rows.astype(np.int32), cells)

    def scores_of(self, representation: np.ndarray) -> np.ndarray:
        """The base's, and their means for the new items."""
        return self._behind(require_folding(self.base).scores_of(representation))

    def item_likeness(self, item_row: int) -> tuple[np.ndarray, str] | None:
        """For a new item the items it is scored by; for others as the base sees it."""
        n_new = len(self.trained_on.items) - self.n_known
        if item_row < self.n_known:
            likeness = item_likeness_of(self.base, item_row)
            return (
                None if likeness is None else (np.concatenate([likeness[0], np.zeros(n_new, np.float32)]), likeness[1])
            )
        out = np.zeros(self.n_known + n_new, dtype=np.float32)
        alike, share = self._alike(item_row)
        out[alike] = share
        return out, f"{self.by}, as it is new"

    def user_likeness(self, user_row: int) -> tuple[np.ndarray, str] | None:
        """As the base sees them."""
        return user_likeness_of(self.base, user_row)

    def terms(self, user_row: int, item_row: int) -> Terms | None:
        """The base's, for what it knows."""
        return terms_of(self.base, user_row, item_row) if item_row < self.n_known else None

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """It is made of a model that was fitted."""
        raise InputError("a model with new items is made of one that was fitted, and not fitted itself")

    def state(self) -> Arrays:
        """There is none to keep."""
        raise InputError("a model with new items is made for serving, and not kept")

    def layout(self, train: InteractionMatrix) -> Layout:
        """There is none."""
        return {}

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """There is none to take back."""
        raise InputError("a model with new items is made for serving, and not kept")


def with_new_items(fitted: Fitted, table: pl.DataFrame, columns: list[str] | None, alike: int) -> Fitted:
    """A fitted model that can also list the items of a table which training never saw; the same one where there are
    none, or none is like anything known. table: column `id` and others. columns: by which items are alike; None: the
    model itself knows what its columns come to.

    What encoding learns it learns from items of training. Likeness is the cosine of the encoded columns, each column of
    the same weight. Raises InputError naming a column that is not there or says nothing of content.
    """
    if columns is None:
        return _by_its_columns(fitted, table)
    for name in columns:
        if name not in table.columns or name == "id":
            has = near(name, [column for column in table.columns if column != "id"])
            raise InputError(f"there is no item column {name!r}{has}", where="new_items")
    known = fitted.train.items
    new = [text for text in table["id"].to_list() if known.row(text) is None]
    if not new:
        return fitted
    ids = IdMap(known.ids.to_pylist() + new)
    rows, there = lined_up(table, ids)
    seen = there & (pl.int_range(len(ids), eager=True) < len(known))
    columns_of = sparse.hstack([_column(rows, seen, there, name) for name in columns], format="csr")
    vectors = of_length_one(sparse.csr_array(columns_of))
    shares = _shares(vectors[len(known) :], vectors[: len(known)], alike)
    has_any = np.diff(shares.indptr) > 0
    if not has_any.any():
        return fitted
    kept = IdMap(known.ids.to_pylist() + [text for text, has in zip(new, has_any, strict=True) if has])
    train = fitted.train.onto(fitted.train.users, kept)
    by = f"content ({', '.join(columns)})"
    model = WithNewItems(fitted.model, train, sparse.csr_array(shares[has_any]), by)
    new_items = NewItems(len(known), "by content")
    return replace(fitted, model=model, train=train, calibration=None, new_items=new_items)


def _by_its_columns(fitted: Fitted, table: pl.DataFrame) -> Fitted:
    """With the new items scored as the model scores columns. Raises InputError where it looks at none of items."""
    knows = knowing_columns(fitted.model, "items")
    if knows is None:
        text = f"{fitted.name} ({fitted.model.family}) looks at no columns of items; name those that make items alike"
        raise InputError(text, where="new_items")
    known = fitted.train.items
    new = table.filter(~pl.col("id").is_in(known.ids.to_pylist()))
    if not new.height:
        return fitted
    train = fitted.train.onto(fitted.train.users, IdMap([*known.ids.to_pylist(), *new["id"].to_list()]))
    model = knows.with_rows("items", train, new)
    return replace(fitted, model=model, train=train, new_items=NewItems(len(known), "by its columns"))


def _column(rows: pl.DataFrame, seen: pl.Series, there: pl.Series, name: str) -> sparse.csr_array:
    """One column, learned from what training saw, each row of length one; zeros for what the table lacks."""
    try:
        encoder = FeatureEncoder({name: role_of(rows[name], None)}).fit(rows.filter(seen))
    except DataError as error:
        raise InputError(error.message, where="new_items") from error
    known = sparse.diags_array(there.to_numpy().astype(np.float32))
    return of_length_one(sparse.csr_array(known @ encoder.encode(rows).matrix))


def _shares(new: sparse.csr_array, known: sparse.csr_array, alike: int) -> sparse.csr_array:
    """The k known rows most like each new one by cosine, as shares that add up to one: float32 (n_new, n_known)."""
    turned, parts = sparse.csc_array(known.T), []
    for lo in range(0, new.shape[0], max(1, BLOCK_CELLS // max(1, known.shape[0]))):
        block = new[lo : lo + max(1, BLOCK_CELLS // max(1, known.shape[0]))]
        likeness = (block @ turned).toarray()
        for row in likeness:
            near = np.lexsort((np.arange(len(row)), -row))[:alike]
            near = np.sort(near[row[near] > 0])
            parts.append((near, row[near] / row[near].sum() if len(near) else row[near]))
    indptr = np.concatenate([[0], np.cumsum([len(near) for near, _ in parts])])
    indices = np.concatenate([near for near, _ in parts]) if parts else np.empty(0, np.int64)
    data = np.concatenate([share for _, share in parts]).astype(np.float32) if parts else np.empty(0, np.float32)
    return sparse.csr_array((data, indices, indptr), shape=(new.shape[0], known.shape[0]))
