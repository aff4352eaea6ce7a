"""What users alike by their columns have: for whoever has few interactions and a full row in the user table."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar, Self

import numpy as np
from scipy import sparse

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features, chosen, of_length_one, require_columns
from gleaner.core.errors import InputError, require_range
from gleaner.core.models.base.capabilities import HasUserLikeness, TakesFeatures
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, Model, learned
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.base.weighting import WEIGHTING_MEANS, Weighting, require_weighting, weigh

MAX_FEATURES = 1_000_000


@dataclass(repr=False)
class UserContent(Model, TakesFeatures, HasUserLikeness):
    """score(u, i) = sum over v of cos(v_u, v_v) x_vi over sum of cos(v_u, v_v), v the `neighbours` users most like u by
    their columns, u itself left out.

    v_u: the columns of the user table, each scaled to length one, then together. x: the values after `weighting`.
    (Pazzani 1999, demographic filtering.)
    """

    family: ClassVar[str] = "user_content"
    feedback: ClassVar = "implicit"
    summary: ClassVar[str] = "what users have whose columns say the same of them"
    source: ClassVar[str] = "Pazzani 1999"
    unfit: ClassVar[str] = "when the user table says little of taste, or users have histories: these say more"
    effort: ClassVar[str] = "a pass over the table; a list costs the features of all users"
    needs_features: ClassVar[bool] = True

    user_columns: list[str] | None = parameter(
        None, "columns of the user table to look at; none given: every one that says something"
    )
    neighbours: int = parameter(300, "users most alike that count")
    weighting: Weighting = parameter("log", WEIGHTING_MEANS)
    vectors_: sparse.csr_array = learned(lambda: sparse.csr_array((0, 0), dtype=np.float32))
    train_: InteractionMatrix | None = learned(lambda: None)
    cells_: sparse.csr_array = learned(lambda: sparse.csr_array((0, 0), dtype=np.float32))

    def __post_init__(self) -> None:
        require_columns("user_columns", self.user_columns)
        require_range("neighbours", self.neighbours, 1, 100_000, whole=True)
        require_weighting(self.weighting)

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """Nothing but the vectors, at some dozen features a user."""
        return Cost(200.0 * shape[0], 400.0 * shape[0] + 8.0 * cells, parallel=False)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Put the columns side by side."""
        columns = chosen((features or Features()).users, self.user_columns, "user_columns")
        if not columns:
            raise InputError("user_content has no column of a user table to look at", where="user_columns")
        blocks = [of_length_one(each.matrix) for each in columns]
        self.vectors_ = of_length_one(sparse.csr_array(sparse.hstack(blocks, format="csr")))
        self._keep(train)
        watch.report_progress(1.0)

    def _keep(self, train: InteractionMatrix) -> None:
        values = weigh(train.values, self.weighting, self.family).astype(np.float32)
        self.train_ = train
        self.cells_ = sparse.csr_array((values, train.indices, train.indptr), shape=train.shape)

    def columns(self, features: Features) -> dict[str, list[str]]:
        """Those of the user table."""
        return {"user_columns": [each.name for each in chosen(features.users, self.user_columns, "user_columns")]}

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """Means of what the nearest users have."""
        likeness = self._likeness(user_rows)
        totals = likeness.sum(axis=1, keepdims=True)
        mates = sparse.csr_array(likeness / np.where(totals > 0, totals, 1))
        return np.ascontiguousarray((mates @ self.cells_).toarray(), dtype=np.float32)

    def _likeness(self, user_rows: np.ndarray) -> np.ndarray:
        """Likeness of the nearest users to some, 0 for all others: float32 (len(user_rows), n_users)."""
        likeness = np.maximum((self.vectors_[user_rows] @ self.vectors_.T).toarray(), 0)
        likeness[np.arange(len(user_rows)), user_rows] = 0
        if self.neighbours < likeness.shape[1]:
            # of equals the first rows, so that a list does not depend on how a sort breaks ties
            order = np.argsort(-likeness, axis=1, kind="stable")
            np.put_along_axis(likeness, order[:, self.neighbours :], 0, axis=1)
        return likeness.astype(np.float32)

    def user_likeness(self, user_row: int) -> tuple[np.ndarray, str]:
        """Likeness of the nearest."""
        return self._likeness(np.array([user_row]))[0], "cosine of their columns"

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
        """A CSR matrix with a row a user."""
        return {
            "n_features": ArraySpec("int64", (1,), low=0, below=MAX_FEATURES),
            "vectors.indptr": ArraySpec("int64", (len(train.users) + 1,), offsets_of="vectors.indices"),
            "vectors.indices": ArraySpec("int32", ("entries",), low=0, below="n_features"),
            "vectors.data": ArraySpec("float32", ("entries",)),
        }

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load them."""
        cells = (arrays["vectors.data"], arrays["vectors.indices"], arrays["vectors.indptr"])
        self.vectors_ = sparse.csr_array(cells, shape=(len(train.users), int(arrays["n_features"][0])))
        self._keep(train)
        return self
