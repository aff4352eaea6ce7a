"""The job that brings in an exported model."""

from __future__ import annotations

import json
import zipfile
import zlib
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import ValidationError

from gleaner.array_files import read_arrays
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.matrix_arrays import check_ids, matrix_of
from gleaner.core.errors import DataError, GleanerError
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.base.registry import build
from gleaner.jobs.models.model_export import CARD, MATRIX, STATE
from gleaner.jobs.worker.context import JobContext
from gleaner.store import datasets, jobs, models
from gleaner.store.files.models import keep_matrix
from gleaner.store.records.models import Story
from gleaner.wire.models.cards import ModelCard, TakeRequest
from gleaner.wire.names import plain_name

MOST_TIMES = 200
"""A zip that grows by more is refused."""


def run(context: JobContext) -> dict[str, Any]:
    """Unpack, check that the model answers, register it. The upload goes when it is done."""
    request = TakeRequest.model_validate(context.claim.payload)
    path = context.settings.uploads / request.upload
    folder = context.staging / "model"
    context.require_going(0.1, "unpacking")
    _unpack(path, folder)
    card = _card(folder)
    context.require_going(0.3, "checking")
    train, model = load_folder(folder, card)
    context.require_going(0.7, "keeping the model")
    with context.engine.begin() as connection:
        version_id = datasets.id_of_content(connection, card.content_hash, card.data)
    story = Story(
        origin="import",
        data=card.data,
        content_hash=card.content_hash,
        prepare=card.prepare,
        split=card.split,
        fit_seconds=card.fit_seconds,
        peak_memory_mb=card.peak_memory_mb,
        scale=train.scale,
        parent=card.name,
        rounds=[each.model_dump(mode="json") for each in card.rounds],
        best_iteration=card.best_iteration,
        warnings=card.warnings,
        chosen=model.chosen(),
        likelihood=None if card.likelihood is None else card.likelihood.model_dump(mode="json"),
    )
    new = models.NewModel(
        name=request.name or plain_name(card.name),
        standing_id=None,
        version_id=version_id,
        family=card.family,
        params=model.params(),
        trained_on=card.trained_on,
        code_version=card.code_version,
        shape=train.shape,
        cells=train.n_cells,
        state=context.artefacts.put_arrays(model.state(), context.staging),
        matrix=keep_matrix(context.artefacts, train, context.staging),
        story=story,
    )
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        name = models.add(connection, new)
        result = {"model": name}
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=f"{name} brought in")
    path.unlink(missing_ok=True)
    return result


def _unpack(path: Path, folder: Path) -> None:
    """Only the three files of a model, none of them larger than the zip could honestly hold."""
    folder.mkdir(parents=True)
    try:
        with zipfile.ZipFile(path) as archive:
            sizes = {entry.filename: entry.file_size for entry in archive.infolist()}
            missing = [name for name in (CARD, STATE, MATRIX) if name not in sizes]
            if missing:
                raise DataError(f"the model folder has no {missing[0]}; it has: {', '.join(sizes) or 'nothing'}")
            if sum(sizes.values()) > MOST_TIMES * max(path.stat().st_size, 1):
                raise DataError("the zip unpacks to far more than it holds")
            for name in (CARD, STATE, MATRIX):
                archive.extract(name, folder)
    except (zipfile.BadZipFile, zlib.error, NotImplementedError, RuntimeError, EOFError):
        # damaged, packed by a method that is not known, or under a password
        raise DataError("this is not a zipped model folder; `gleaner model export` makes one") from None


def _card(folder: Path) -> ModelCard:
    try:
        return ModelCard.model_validate(json.loads((folder / CARD).read_text()))
    except (ValidationError, ValueError, RecursionError) as error:
        where = error.errors()[0]["loc"] if isinstance(error, ValidationError) else ("JSON",)
        raise DataError(f"{CARD} is not a model's card: {'.'.join(map(str, where))} does not fit") from None


def load_folder(folder: Path, card: ModelCard) -> tuple[InteractionMatrix, Model]:
    """The matrix and the model of a folder. Raises DataError where they do not belong together."""
    try:
        train = matrix_of(read_arrays(folder / MATRIX))
        check_ids(train)
        _check_shape(train, card)
        model = build(card.family, card.params).restore(read_arrays(folder / STATE), train)
        rows = np.arange(min(2, len(train.users)), dtype=np.int32)
        scores = model.scores(rows)
    except GleanerError:
        raise
    except (KeyError, ValueError, IndexError, TypeError) as error:
        raise DataError(f"the files of {card.name} do not make a {card.family} model: {error}") from None
    if scores.shape != (len(rows), len(train.items)) or not np.isfinite(scores).all():
        raise DataError(f"the files of {card.name} make a model that does not answer")
    return train, model


def _check_shape(train: InteractionMatrix, card: ModelCard) -> None:
    """Raise DataError unless the matrix is of the size the card says."""
    has, declared = (*train.shape, train.n_cells), (card.users, card.items, card.cells)
    if has != declared:
        sizes = [f"{users:,} users, {items:,} items and {cells:,} cells" for users, items, cells in (has, declared)]
        raise DataError(f"{MATRIX} holds {sizes[0]}, and {CARD} says {sizes[1]}", where=MATRIX)
