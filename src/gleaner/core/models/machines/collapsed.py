"""A factorisation machine with the sums of users, items and context worked out: what predictions and lists are made
of."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy import sparse

from gleaner.core.models.machines.fields import CONTEXT, ITEM, USER
from gleaner.core.models.machines.sampling import Chain

Table = np.ndarray
"""float32 (n, rank + 1): a weight, then a vector."""


@dataclass(frozen=True, eq=False)
class Draw:
    """One draw of a chain. prediction = base + sum of the weights of user, item and context + the products of their
    vectors, two at a time.

    users, items: tables, a row a user or item: what their ids and columns come to, products among these included.
    user_columns, item_columns: a row for each feature of each column of a table, by which rows of it that training
    never saw are summed. context: a row for each feature of each column of the context. priors: float64
    (2, 2, rank + 1), mean and precision of the weight and vector of a user's id, then an item's; precision: of a row's
    error.
    """

    base: float
    users: Table
    items: Table
    user_columns: Table
    item_columns: Table
    context: Table
    priors: np.ndarray
    precision: float

    @classmethod
    def of(cls, chain: Chain, users: list[sparse.csr_array], items: list[sparse.csr_array]) -> Draw:
        """As the chain stands. users, items: the features of every user, and item, by column."""
        sides: dict[str, list[np.ndarray]] = {USER: [], ITEM: [], CONTEXT: []}
        for place, (field, table) in enumerate(zip(chain.fields, chain.tables, strict=True)):
            # of what was never met nothing is known but its field's mean
            sides[field.side].append(np.where(chain.unmet[place][:, None], chain.means[place], table))
        none = np.zeros((0, chain.rank + 1), np.float32)
        user_columns, item_columns, context = (
            np.concatenate([none, *some]).astype(np.float32)
            for some in (sides[USER][1:], sides[ITEM][1:], sides[CONTEXT])
        )
        priors = np.stack([[chain.means[place], chain.precisions[place]] for place in (0, 1)])
        return cls(
            float(chain.base),
            _summed(sides[USER][0], users, sides[USER][1:]),
            _summed(sides[ITEM][0], items, sides[ITEM][1:]),
            user_columns,
            item_columns,
            context,
            priors,
            float(chain.precision),
        )

    def of_rows(self, rows: list[sparse.csr_array], side: int) -> Table:
        """Rows of a table that training never saw, from the features of each column: a row for each. side: 0 for users,
        1 for items. Of their ids nothing is known but the mean."""
        own = np.tile(self.priors[side, 0].astype(np.float32), (rows[0].shape[0], 1))
        return _summed(own, rows, self._by_column(rows, side))

    def with_rows(self, rows: list[sparse.csr_array], side: int) -> Draw:
        """The same with these rows behind those of its side."""
        table = self.of_rows(rows, side)
        if side == 0:
            return replace(self, users=np.concatenate([self.users, table]))
        return replace(self, items=np.concatenate([self.items, table]))

    def _by_column(self, rows: list[sparse.csr_array], side: int) -> list[Table]:
        ends = np.cumsum([each.shape[1] for each in rows])[:-1]
        return np.split((self.user_columns, self.item_columns)[side], ends)

    def known_of_user(self, row: list[sparse.csr_array]) -> Table:
        """What the columns of one row of the user table come to, without an id: float32 (rank + 1,)."""
        own = np.zeros((1, self.users.shape[1]), np.float32)
        return _summed(own, row, self._by_column(row, 0))[0] if row else own[0]

    def of_context(self, features: np.ndarray) -> Table:
        """Rows of features of the context, int (n, n_columns) with -1 for none, summed: a row for each."""
        there = (features >= 0)[:, :, None]
        parts = np.where(there, self.context[np.maximum(features, 0)], 0) if features.shape[1] else None
        if parts is None:
            return np.zeros((len(features), self.users.shape[1]), np.float32)
        return _with_products(parts.sum(axis=1), (parts[:, :, 1:] ** 2).sum(axis=1))

    def pairs(self, users: Table, items: Table, context: Table) -> np.ndarray:
        """Predictions row by row: float64 (n,)."""
        weights = self.base + users[:, 0] + items[:, 0] + context[:, 0].astype(np.float64)
        x, y, z = users[:, 1:], items[:, 1:], context[:, 1:]
        products = np.einsum("ij,ij->i", x, y) + np.einsum("ij,ij->i", x + y, z)
        return weights + products

    def fitted_side(
        self, others: Table, context: Table, values: np.ndarray, side: int, columns: np.ndarray | None = None
    ) -> np.ndarray:
        """Weight and vector of someone, or something, new from what `others` gave or got, the mean of its distribution:
        float32 (rank + 1,). side: 0 for a user, 1 for an item. columns: what is known of its row, as a row of the
        tables."""
        mean, precision = self.priors[side]
        known = np.zeros(len(mean)) if columns is None else columns.astype(np.float64)
        beside = (others[:, 1:] + context[:, 1:]).astype(np.float64)
        rows = np.column_stack([np.ones(len(others)), beside + known[1:]])
        told = self.base + others[:, 0] + context[:, 0] + np.einsum("ij,ij->i", others[:, 1:], context[:, 1:])
        told = told + known[0] + beside @ known[1:]
        system = self.precision * rows.T @ rows + np.diag(precision)
        wanted = self.precision * rows.T @ (values - told) + precision * mean
        own = np.linalg.solve(system, wanted)
        return np.append(own[0] + known[0] + own[1:] @ known[1:], own[1:] + known[1:]).astype(np.float32)


def _summed(own: np.ndarray, columns: list[sparse.csr_array], tables: list[np.ndarray]) -> Table:
    """The table of ids, and what the columns of each add: weights, vectors, and products of all of them."""
    sums, squares = own.copy(), own[:, 1:] ** 2
    for rows, table in zip(columns, tables, strict=True):
        sums += rows @ table
        squares += rows.power(2) @ table[:, 1:] ** 2
    return _with_products(sums, squares)


def _with_products(sums: np.ndarray, squares: np.ndarray) -> Table:
    """Half of the squared sum less the squares, which is the sum of the products of two, added to the weight."""
    sums = sums.copy()
    sums[:, 0] += 0.5 * (sums[:, 1:] ** 2 - squares).sum(axis=1)
    return sums.astype(np.float32)
