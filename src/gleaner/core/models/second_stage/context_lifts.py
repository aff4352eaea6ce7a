"""What is taken more than elsewhere in the context that a list is asked for in."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import polars as pl
from scipy import sparse

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.context_encoder import ContextEncoder
from gleaner.core.errors import DataError
from gleaner.core.models.base.protocol import Arrays
from gleaner.core.models.second_stage.peers import Lifts

OF = "context"


@dataclass(frozen=True, eq=False)
class ContextLifts:
    """By columns of the interaction, as `Lifts` by columns of users: rows counted are the cells of training."""

    encoder: ContextEncoder
    lifts: Lifts

    @classmethod
    def of(cls, names: list[str], train: InteractionMatrix) -> ContextLifts:
        """Count the cells of a training matrix. Raises ParameterError naming a column that is not there."""
        frame = pl.DataFrame() if train.context is None else train.context
        encoder = ContextEncoder.fit(frame, names)
        cells: Any = (np.ones(train.n_cells), train.indices, np.arange(train.n_cells + 1))
        has = sparse.csr_array(cells, shape=(train.n_cells, len(train.items)))
        members = _members(encoder, train.context, train.n_cells) if encoder.names else []
        return cls(encoder, Lifts.counted(members, has).of_nobody())

    def of_pairs(self, places: np.ndarray, items: np.ndarray, context: pl.DataFrame | None) -> np.ndarray:
        """The lifts of each pair, in the row of the context at its place: float32 (n, n_columns)."""
        if not self.encoder.names:
            return np.empty((len(items), 0), np.float32)
        n = int(places.max(initial=-1)) + 1 if context is None else context.height
        return self.lifts.of_rows(_members(self.encoder, context, n)).of_pairs(places, items)

    def state(self) -> Arrays:
        """The counts, and how columns are read."""
        return self.lifts.state(OF) | {"context.encoder": np.frombuffer(self.encoder.to_json(), np.uint8)}

    @staticmethod
    def layout(n_items: int) -> Layout:
        """What the arrays must be."""
        return {**Lifts.layout(OF, n_items), "context.encoder": ArraySpec("uint8", ("letters of the context",))}

    @classmethod
    def load_state(cls, arrays: Arrays) -> ContextLifts:
        """Load them. Raises DataError where they do not fit each other."""
        lifts = Lifts.load_state(OF, arrays, 1)
        encoder = ContextEncoder.from_json(arrays["context.encoder"].tobytes(), "context.encoder")
        if len(encoder.names) != lifts.n_columns or sum(encoder.n_features) != len(lifts.bases):
            text = "array 'context.bases' must hold a number for every feature of the context's encoder"
            raise DataError(text, where="context.bases")
        return cls(encoder, lifts)

    @staticmethod
    def none() -> Arrays:
        """The state of a model that looks at no context."""
        encoder = ContextEncoder()
        return Lifts.none(OF) | {"context.encoder": np.frombuffer(encoder.to_json(), np.uint8)}


def _members(encoder: ContextEncoder, context: pl.DataFrame | None, n: int) -> list[sparse.csr_array]:
    """Rows by the value of each column."""
    rows = np.arange(n)
    return [
        sparse.csr_array((np.ones(n, bool), (rows, codes)), shape=(n, width))
        for codes, width in zip(encoder.codes(context, n), encoder.n_features, strict=True)
    ]
