"""Items like those in the history by what they are: text, categories, tags."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Literal, Self

import numpy as np
from scipy import sparse

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Column, Features, chosen, of_length_one, require_columns
from gleaner.core.data.tables.text_encoders import TextEncoders
from gleaner.core.errors import InputError, ParameterError
from gleaner.core.models.base.capabilities import TakesFeatures
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.history import HistoryModel
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, learned
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.base.weighting import WEIGHTING_MEANS, Weighting, require_weighting, weigh

MAX_FEATURES = 1_000_000
ROLES = ("category", "categories", "text", "flag")
"""Roles of columns that say what an item is in words; amounts and dates have no angle."""


@dataclass(repr=False)
class ItemContent(HistoryModel, TakesFeatures):
    """score(u, i) = sum over j in the history of u of x_uj cos(v_i, v_j), over the sum of the x_uj.

    v_i: the columns of the item table, text as TF-IDF, categories and tags as 0 or 1 times their rarity, ln((1 + n) /
    (1 + df)) + 1 of the training items (`rarity`); each column scaled to length one, so that a long description
    weighs no more than a category. x: the values after `weighting`. (Pazzani, Billsus 2007; Salton, Buckley 1988.)
    With `text_encoder` a text is the vector that a network of the user's gives it, instead of its words.
    """

    family: ClassVar[str] = "item_content"
    feedback: ClassVar = "implicit"
    summary: ClassVar[str] = "items like those in the history, by what they are"
    source: ClassVar[str] = "Pazzani, Billsus 2007; Salton, Buckley 1988"
    unfit: ClassVar[str] = "when there are interactions enough: who has what says more than what it is"
    effort: ClassVar[str] = "a pass over the table; a list costs the features of all items"
    needs_features: ClassVar[bool] = True

    item_columns: list[str] | None = parameter(
        None, "columns of the item table to look at; none given: every one that says something"
    )
    rarity: Literal["idf", "none"] = parameter("idf", "`idf`: rare categories and tags weigh more; `none`")
    weighting: Weighting = parameter("log", WEIGHTING_MEANS)
    text_encoder: str | None = parameter(None, "a model folder that makes vectors of texts; none given: their words")
    vectors_: sparse.csr_array = learned(lambda: sparse.csr_array((0, 0), dtype=np.float32))

    def __post_init__(self) -> None:
        require_columns("item_columns", self.item_columns)
        if self.rarity not in ("idf", "none"):
            raise ParameterError(f"rarity must be idf or none, not {self.rarity!r}", where="rarity")
        require_weighting(self.weighting)
        if self.text_encoder is not None and not isinstance(self.text_encoder, str):
            raise ParameterError(f"text_encoder must be a name, not {self.text_encoder!r}", where="text_encoder")

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """Nothing but the vectors, at some dozen features an item."""
        return Cost(200.0 * shape[1], 400.0 * shape[1] + 4.0 * cells, parallel=False)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Put the columns side by side."""
        features = features or Features()
        columns = self._chosen(features)
        if not columns:
            raise InputError("item_content has no column of an item table to look at", where="item_columns")
        blocks = [of_length_one(self._block(each, features.text_encoders, watch)) for each in columns]
        self.vectors_ = of_length_one(sparse.csr_array(sparse.hstack(blocks, format="csr")))
        self.keep_training(train)
        watch.report_progress(1.0)

    def _chosen(self, features: Features) -> list[Column]:
        columns = chosen(features.items, self.item_columns, "item_columns")
        unfit = [each for each in columns if each.role not in ROLES]
        if unfit and self.item_columns is not None:
            text = f"item_content compares categories, tags, flags and text; {unfit[0].name!r} holds a {unfit[0].role}"
            raise ParameterError(text, where="item_columns")
        return [each for each in columns if each.role in ROLES]

    def columns(self, features: Features) -> dict[str, list[str]]:
        """Those of the item table."""
        return {"item_columns": [each.name for each in self._chosen(features)]}

    def _block(self, column: Column, encoders: TextEncoders, watch: Watch) -> sparse.csr_array:
        if self.text_encoder is None or column.texts is None:
            return self._weighed(column)
        vectors = encoders.encode(self.text_encoder, column.texts.to_list(), watch.report_progress)
        return sparse.csr_array(vectors)

    def _weighed(self, column: Column) -> sparse.csr_array:
        """Rare categories above common ones; text is weighed so already."""
        matrix = column.matrix
        if self.rarity == "none" or column.role == "text":
            return matrix
        having = np.bincount(matrix.indices, minlength=matrix.shape[1])
        idf = np.log((1 + matrix.shape[0]) / (1 + having)) + 1
        return sparse.csr_array(matrix @ sparse.diags_array(idf.astype(np.float32)))

    def weigh(self, values: np.ndarray, item_rows: np.ndarray) -> np.ndarray:
        """By `weighting`, so that a history adds up to one."""
        weighed = weigh(values, self.weighting, self.family).astype(np.float64)
        total = weighed.sum()
        return (weighed / total if total > 0 else weighed).astype(np.float32)

    def weigh_training(self, train: InteractionMatrix) -> np.ndarray:
        """The same, history by history."""
        weighed = weigh(train.values, self.weighting, self.family).astype(np.float64)
        totals = np.bincount(train.user_rows, weighed, minlength=train.shape[0])
        return (weighed / np.where(totals > 0, totals, 1)[train.user_rows]).astype(np.float32)

    def weights_to(self, item_row: int) -> np.ndarray:
        """Cosine of every item to one."""
        one = self.vectors_[[item_row]].toarray()[0]
        return np.asarray(self.vectors_ @ one, dtype=np.float32)

    def times_weights(self, bounds: np.ndarray, items: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Profiles of the histories, times every item."""
        shape = (len(bounds) - 1, self.vectors_.shape[0])
        histories = sparse.csr_array((values, items, bounds), shape=shape)
        profiles = (histories @ self.vectors_).toarray()
        return np.ascontiguousarray((self.vectors_ @ profiles.T).T, dtype=np.float32)

    def state(self) -> Arrays:
        """The vectors in CSR form."""
        vectors = self.vectors_
        return {
            "vectors.indptr": vectors.indptr.astype(np.int64),
            "vectors.indices": vectors.indices.astype(np.int32),
            "vectors.data": vectors.data,
            "n_features": np.array([vectors.shape[1]], dtype=np.int64),
        }

    def layout(self, train: InteractionMatrix) -> Layout:
        """A CSR matrix with a row an item."""
        return {
            "n_features": ArraySpec("int64", (1,), low=0, below=MAX_FEATURES),
            "vectors.indptr": ArraySpec("int64", (len(train.items) + 1,), offsets_of="vectors.indices"),
            "vectors.indices": ArraySpec("int32", ("entries",), low=0, below="n_features"),
            "vectors.data": ArraySpec("float32", ("entries",)),
        }

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load them."""
        cells = (arrays["vectors.data"], arrays["vectors.indices"], arrays["vectors.indptr"])
        self.vectors_ = sparse.csr_array(cells, shape=(len(train.items), int(arrays["n_features"][0])))
        return self.keep_training(train)
