"""Models and training matrices as artefact files, and back."""

from __future__ import annotations

from pathlib import Path

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.matrix_arrays import arrays_of, matrix_of
from gleaner.core.fitted import Fitted
from gleaner.core.models.base.likelihood import Calibration
from gleaner.core.models.base.registry import build
from gleaner.store.files.artefacts import Artefact, ArtefactStore
from gleaner.store.models import ModelFiles


def keep_matrix(store: ArtefactStore, matrix: InteractionMatrix, staging: Path) -> Artefact:
    """Keep a training matrix. The same matrix is kept once, whatever models learn from it."""
    return store.put_arrays(arrays_of(matrix), staging)


def load_matrix(store: ArtefactStore, digest: str) -> InteractionMatrix:
    """Read a training matrix back."""
    return matrix_of(store.load_arrays(digest))


def load_model(store: ArtefactStore, files: ModelFiles, train: InteractionMatrix | None = None) -> Fitted:
    """Read a model and the matrix it learned from. Raises DataError when a file is missing or damaged."""
    train = train or load_matrix(store, files.matrix_file)
    model = build(files.family, files.params).restore(store.load_arrays(files.state_file), train)
    chances = files.likelihood
    calibration = None if chances is None else Calibration(chances["slope"], chances["intercept"])
    return Fitted(files.name, model, train, calibration)
