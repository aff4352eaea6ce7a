"""Small seeded worlds for tests."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta

import numpy as np
import polars as pl

from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.rows import InteractionRows
from gleaner.core.data.tables.row_features import Features, features_of

START = datetime(2026, 1, 1, tzinfo=UTC)


def ids(letter: str, n: int) -> IdMap:
    return IdMap([f"{letter}{number}" for number in range(n)])


def random_matrix(seed: int, n_users: int = 12, n_items: int = 9, share: float = 0.35) -> InteractionMatrix:
    """A matrix with small whole values, an empty user, an empty item and a user with one item."""
    random = np.random.default_rng(seed)
    observed = random.random((n_users, n_items)) < share
    observed[0], observed[:, 0] = False, False
    observed[1] = False
    observed[1, 2] = True
    user, item = np.nonzero(observed)
    values = random.integers(1, 6, len(user)).astype(np.float32)
    return InteractionMatrix.from_cells(
        user.astype(np.int32), item.astype(np.int32), values, ids("u", n_users), ids("i", n_items)
    )


def tables_for(matrix: InteractionMatrix) -> tuple[pl.DataFrame, pl.DataFrame]:
    """Columns of each sort for the items of a matrix, and two for its users; the last of each is in no table."""
    n_users, n_items = matrix.shape
    items = pl.DataFrame(
        {
            "id": matrix.items.ids.to_pylist(),
            "family": [("pea", "bean", "beet")[n % 3] for n in range(n_items)],
            "traits": [["early", "tall"][: n % 3] for n in range(n_items)],
            "days": [float(10 * n) for n in range(n_items)],
            "about": [
                f"a {('sweet', 'hardy')[n % 2]} one, sown in {('spring', 'autumn')[n % 5 % 2]}" for n in range(n_items)
            ],
        }
    )
    users = pl.DataFrame(
        {"id": matrix.users.ids.to_pylist(), "zone": [f"Z{n % 4}" for n in range(n_users)], "years": range(n_users)}
    )
    last = slice(None, -1 if min(n_users, n_items) > 1 else None)
    return items[last], users[last]


COLUMN_TYPES = {
    "items": {"family": "category", "traits": "categories", "days": "number", "about": "text"},
    "users": {"zone": "category", "years": "number"},
}


def features_for(matrix: InteractionMatrix) -> Features:
    """The same as features."""
    items, users = tables_for(matrix)
    return features_of(matrix.items, matrix.users, items, users, COLUMN_TYPES)


def dense_of(matrix: InteractionMatrix) -> tuple[np.ndarray, np.ndarray]:
    """Values (zero where unobserved) and the mask of what was observed."""
    values, observed = np.zeros(matrix.shape), np.zeros(matrix.shape, dtype=bool)
    for user in range(matrix.shape[0]):
        items, cell_values = matrix.history(user)
        values[user, items], observed[user, items] = cell_values, True
    return values, observed


def rows_of(
    cells: list[tuple[str, str]],
    *,
    kinds: list[str] | None = None,
    days: list[float | None] | None = None,
    values: list[float | None] | None = None,
    scale: tuple[float, float] | None = None,
) -> InteractionRows:
    """Rows from (user, item) pairs in file order."""
    columns: dict[str, pl.Series] = {
        "user": pl.Series([user for user, _ in cells], dtype=pl.String),
        "item": pl.Series([item for _, item in cells], dtype=pl.String),
    }
    if kinds is not None:
        columns["kind"] = pl.Series(kinds)
    if days is not None:
        moments = [None if day is None else START + timedelta(days=day) for day in days]
        columns["time"] = pl.Series(moments, dtype=pl.Datetime("us", "UTC"))
    if values is not None:
        columns["value"] = pl.Series(values, dtype=pl.Float64)
    return InteractionRows.from_arrow(pl.DataFrame(columns).to_arrow(), scale)


def rated_matrix(
    seed: int, n_users: int = 40, n_items: int = 14, share: float = 0.4, *, dated: bool = True
) -> InteractionMatrix:
    """Ratings from 1 to 5 with some structure, on a declared scale, with days; no user and no item is empty."""
    random = np.random.default_rng(seed)
    tastes = random.normal(size=(n_users, 2)) @ random.normal(size=(2, n_items))
    # what people like they try, too
    observed = random.random((n_users, n_items)) < share * 2 / (1 + np.exp(-2 * tastes))
    observed[np.arange(n_users), np.arange(n_users) % n_items] = True
    user, item = np.nonzero(observed)
    values = np.clip(np.round(3 + tastes[user, item] + 0.3 * random.normal(size=len(user))), 1, 5)
    days = np.sort(random.random(len(user)) * 400) if dated else None
    matrix = InteractionMatrix.from_cells(user, item, values, ids("u", n_users), ids("i", n_items))
    return replace(matrix, scale=(1.0, 5.0), days=days)
