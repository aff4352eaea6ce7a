"""Someone no model knows, by the nearest users whom it does: by columns of the user table."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import polars as pl
from scipy import sparse

from gleaner.core.data.tables.column_encoding import Role
from gleaner.core.data.tables.feature_encoder import FeatureEncoder
from gleaner.core.data.tables.row_features import lined_up, role_of
from gleaner.core.errors import InputError, near
from gleaner.core.fitted import Fitted
from gleaner.core.models.base.capabilities import factors_of
from gleaner.core.ranking.topn import Lists
from gleaner.serving.tables import ItemTable


@dataclass(frozen=True, eq=False)
class Lookalikes:
    """Users of one model by columns. rows: a unit vector each, zeros for whom the table lacks."""

    fitted: Fitted
    columns: list[str]
    users: int
    table: pl.DataFrame
    encoder: FeatureEncoder
    rows: sparse.csr_array

    @classmethod
    def of(cls, fitted: Fitted, table: ItemTable, columns: list[str], users: int) -> Lookalikes:
        """Encode the users of a model. Raises InputError naming a column that is not there or says nothing of users."""
        if table.frame is None:
            raise InputError("lookalikes need columns, and the dataset has no table of users", where="fallback")
        roles: dict[str, Role] = {}
        for column in columns:
            if column not in table.columns:
                raise InputError(f"there is no user column {column!r}{near(column, table.columns)}", where="fallback")
            roles[column] = role_of(table.frame[column], None)
        mine, there = lined_up(table.frame, fitted.train.users)
        encoder = FeatureEncoder(roles).fit(mine.filter(there).select(columns))
        known = sparse.diags_array(there.to_numpy().astype(np.float32))
        encoded = sparse.csr_array(known @ encoder.encode(mine.select(columns)).matrix)
        return cls(fitted, columns, users, table.frame.select(columns), encoder, _unit(encoded))

    @property
    def name(self) -> str:
        """As the answer has it."""
        return f"lookalikes by {', '.join(self.columns)}"

    def best(
        self, table: ItemTable, user: str | None, n: int, allowed: np.ndarray | None, left_out_rows: np.ndarray
    ) -> tuple[Lists, int] | None:
        """The n best of what the nearest users would be shown, their scores averaged by likeness, and how many users;
        None where the table does not know who asks, or nobody is alike."""
        row = None if user is None else table.row_of(user)
        if row is None or table.frame is None:
            return None
        mine = _unit(sparse.csr_array(self.encoder.encode(table.frame[[row]].select(self.columns)).matrix))
        likeness = (self.rows @ mine.T).toarray().ravel()
        near = np.lexsort((self.fitted.user_ties, -likeness))[: self.users]
        near = near[likeness[near] > 0].astype(np.int32)
        if not len(near):
            return None
        weights = (likeness[near] / likeness[near].sum()).astype(np.float32)
        factors = factors_of(self.fitted.model)
        if factors is not None:
            return self.fitted.best_of(weights @ factors.users[near], n, allowed, left_out_rows), len(near)
        return self.fitted.best_scored(weights @ self.fitted.model.scores(near), n, allowed, left_out_rows), len(near)


def _unit(rows: sparse.csr_array) -> sparse.csr_array:
    lengths = np.sqrt(np.asarray(rows.multiply(rows).sum(axis=1)).ravel())
    scale = np.divide(1.0, lengths, out=np.zeros_like(lengths), where=lengths > 0)
    return sparse.csr_array(sparse.diags_array(scale) @ rows)
