"""Models as folders of JSON and safetensors."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

from gleaner import __version__
from gleaner.array_files import read_arrays, write_arrays
from gleaner.core.data.matrix_arrays import arrays_of, matrix_of
from gleaner.core.errors import DataError
from gleaner.core.fitted import Fitted
from gleaner.core.models.base.registry import build

CARD, STATE, MATRIX = "model.json", "state.safetensors", "matrix.safetensors"


def save(fitted: Fitted, folder: str | Path) -> Path:
    """Write a model as JSON and safetensors, which `load` reads back. Raises DataError where the folder is there."""
    place = Path(folder)
    if place.exists():
        raise DataError(f"{place} is there already; name another place", where="folder")
    # written beside its place and renamed, so that no half of a model ever stands there
    part = place.with_name(f".{place.name}.part")
    shutil.rmtree(part, ignore_errors=True)
    part.mkdir(parents=True)
    card = {"name": fitted.name, "family": fitted.model.family, "params": fitted.model.params(), "made_by": __version__}
    write_arrays(fitted.model.state(), part / STATE)
    write_arrays(arrays_of(fitted.train), part / MATRIX)
    (part / CARD).write_text(json.dumps(card, indent=2))
    part.rename(place)
    return place


def load(folder: str | Path) -> Fitted:
    """Read a model that `save`, or `gleaner model export`, wrote. Raises DataError naming the array that is not what it
    must be."""
    place = Path(folder)
    if not (place / CARD).exists():
        raise DataError(f"{place} holds no {CARD}", where="folder")
    try:
        card = json.loads((place / CARD).read_text())
        name, family, params = card["name"], card["family"], card["params"]
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        raise DataError(f"{CARD} is not a model's card: {error!r}", where=CARD) from None
    train = matrix_of(read_arrays(place / MATRIX))
    return Fitted(name, build(family, params).restore(read_arrays(place / STATE), train), train)
