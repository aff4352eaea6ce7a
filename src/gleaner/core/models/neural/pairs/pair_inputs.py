"""What a ranking network is told of users, their context and items: one vector, with a weight, of each thing."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
import polars as pl

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.context_encoder import ContextEncoder
from gleaner.core.models.base.protocol import Arrays
from gleaner.core.models.neural.machinery.bags import Bags, forget_untouched, rows_in
from gleaner.core.models.neural.machinery.side_inputs import SideInputs


@dataclass(eq=False)
class PairInputs:
    """Left is what is known of whoever asks: a vector of their own, the sum over what they had, one of each column and
    of each column of the context; right what is known of an item: a vector of its own, and one of each column.

    amounts: of each training cell in the sum over histories, which is divided by the root of how many there are.
    """

    train: InteractionMatrix
    users: SideInputs
    items: SideInputs
    encoder: ContextEncoder
    amounts: np.ndarray
    codes: np.ndarray = field(init=False)

    def __post_init__(self) -> None:
        self.codes = context_rows(self.encoder, self.train.context, self.train.n_cells)
        self.histories = Bags(self.train.indptr, self.train.indices, self.amounts)

    def initial_tables(self, random: np.random.Generator, width: int, scale: float) -> Arrays:
        """Short vectors with weights of 0 behind: a table of each sort of thing."""
        sizes = {
            "user_ids": len(self.train.users),
            "item_ids": len(self.train.items),
            "histories": len(self.train.items),
            "user_columns": self.users.n_features,
            "item_columns": self.items.n_features,
            "context": sum(self.encoder.n_features),
        }
        tables = {}
        for name, n in sizes.items():
            vectors = (random.standard_normal((n, width)) * (scale / np.sqrt(width))).astype(np.float32)
            tables[name] = np.column_stack([vectors, np.zeros(n, np.float32)])
        forget_untouched(self.train, tables)
        return tables

    def left_in(self, torch: Any, weights: dict[str, Any], cells: np.ndarray) -> Any:
        """Of training cells, whose own item is left out of the history: torch (n, n_left, width + 1)."""
        users, items = self.train.user_rows[cells], self.train.indices[cells]
        own = rows_in(torch, weights["user_ids"], users)
        bags, table = self.histories.some(users), weights["histories"]
        told = rows_in(torch, table, items)
        left = bags.sums_in(torch, table) - told * torch.from_numpy(self.amounts[cells])[:, None]
        share = torch.from_numpy((1 / np.sqrt(np.maximum(np.diff(bags.indptr) - 1, 1))).astype(np.float32))
        parts = [own[:, None], (left * share[:, None])[:, None]]
        if self.users.encodings:
            parts.append(self.users.vectors_in(torch, weights["user_columns"], users))
        if self.encoder.columns:
            parts.append(weights["context"][torch.from_numpy(self.codes[cells].astype(np.int64))])
        return torch.cat(parts, dim=1)

    def right_in(self, torch: Any, weights: dict[str, Any], items: np.ndarray) -> Any:
        """Of items: torch (n, n_right, width + 1)."""
        own = rows_in(torch, weights["item_ids"], items)
        if not self.items.encodings:
            return own[:, None]
        return torch.cat([own[:, None], self.items.vectors_in(torch, weights["item_columns"], items)], dim=1)


def context_rows(encoder: ContextEncoder, context: pl.DataFrame | None, n: int) -> np.ndarray:
    """The rows of the context's table for n rows of it: int32 (n, n_columns)."""
    starts = np.concatenate([[0], np.cumsum(encoder.n_features)])[:-1].astype(np.int32)
    return encoder.codes(context, n).T + starts


def stack(parts: list[np.ndarray]) -> np.ndarray:
    """Vectors side by side: float32 (n, n_parts, width)."""
    return np.ascontiguousarray(np.concatenate(parts, axis=1), dtype=np.float32)
