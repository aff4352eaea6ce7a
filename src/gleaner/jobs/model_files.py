"""Models and training matrices as artefact files, and back."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.models.protocol import Model
from gleaner.core.models.registry import build
from gleaner.core.ranking.ties import tie_order
from gleaner.store.artefacts import Artefact, ArtefactStore
from gleaner.store.models import ModelFiles


@dataclass(frozen=True, eq=False)
class LoadedModel:
    """A model ready to answer: with the matrix it learned from and the order of ties."""

    name: str
    model: Model
    train: InteractionMatrix
    ties: np.ndarray


def keep_matrix(store: ArtefactStore, matrix: InteractionMatrix, staging: Path) -> Artefact:
    """Keep a training matrix. The same matrix is kept once, whatever models learn from it."""
    user_bytes, user_offsets = matrix.users.to_arrays()
    item_bytes, item_offsets = matrix.items.to_arrays()
    arrays = {
        "indptr": matrix.indptr,
        "indices": matrix.indices,
        "values": matrix.values,
        "user_bytes": user_bytes,
        "user_offsets": user_offsets,
        "item_bytes": item_bytes,
        "item_offsets": item_offsets,
    }
    return store.put_arrays(arrays, staging)


def load_matrix(store: ArtefactStore, digest: str) -> InteractionMatrix:
    """Read a training matrix back."""
    arrays = store.load_arrays(digest)
    return InteractionMatrix(
        indptr=arrays["indptr"],
        indices=arrays["indices"],
        values=arrays["values"],
        users=IdMap.from_arrays(arrays["user_bytes"], arrays["user_offsets"]),
        items=IdMap.from_arrays(arrays["item_bytes"], arrays["item_offsets"]),
    )


def load_model(store: ArtefactStore, files: ModelFiles, train: InteractionMatrix | None = None) -> LoadedModel:
    """Read a model and the matrix it learned from. Raises DataError when a file is missing or damaged."""
    train = train or load_matrix(store, files.matrix_file)
    model = build(files.family, files.params).restore(store.load_arrays(files.state_file), train)
    return LoadedModel(files.name, model, train, tie_order(train.items))
