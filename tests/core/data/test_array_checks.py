"""Arrays of files that do not hold what they must: each is refused by its name, before a kernel sees it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from core.models.test_families import ALL, small
from gleaner.array_files import read_arrays, write_arrays
from gleaner.core.data.matrix_arrays import arrays_of, matrix_of
from gleaner.core.errors import DataError
from gleaner.core.models.base.registry import build
from worlds import features_for, rated_matrix

FREE = {"user_bytes", "item_bytes", "kind_bytes", "values", "days", "seed", "n_features"}
"""Arrays of which an entry may be any number of their type."""
SAME_LENGTH = ("one longer", "nothing")


def with_kinds():
    """A matrix with everything a matrix can have."""
    matrix = rated_matrix(3)
    kinds = np.full(matrix.n_cells, 3, dtype=np.uint64)
    return replace(matrix, kinds=kinds, kind_names=("view", "save"), days=np.arange(matrix.n_cells, dtype=np.float64))


def broken(name: str, array: np.ndarray) -> Iterator[tuple[str, np.ndarray]]:
    """What a hostile or damaged file could hold in its place."""
    yield "another type", array.astype("float64" if array.dtype != np.float64 else "float32")
    yield (
        "one longer",
        np.concatenate([array, array[-1:]]) if len(array) else np.ones((1, *array.shape[1:]), array.dtype),
    )
    yield "a dimension more", array[None]
    yield "nothing", array[:0]
    if array.dtype.kind == "f" and array.size:
        yield "infinity", put(array, np.inf)
        if name.split(".")[-1] != "days":
            yield "no number", put(array, np.nan)
    if array.dtype.kind in "iu" and array.size and name.split(".")[-1] not in FREE:
        yield "an index far beyond the end", put(array, np.iinfo(array.dtype).max)
        yield "an index far below the start", put(array, np.iinfo(array.dtype).min)
        yield "an offset that falls", put(array, np.iinfo(array.dtype).max, at=array.size // 2)


def put(array: np.ndarray, value: float, at: int = -1) -> np.ndarray:
    changed = array.copy()
    changed.reshape(-1)[at] = value
    return changed


def refused(take: Callable[[], object]) -> str | None:
    """The array that a refusal names, None where nothing was refused."""
    try:
        take()
    except DataError as error:
        return error.where
    return None


def is_harmless(label: str, name: str, array: np.ndarray) -> bool:
    """What a file may hold: no entries where there were none, an item more with no cell."""
    return label in SAME_LENGTH and label == "nothing" and not len(array)


FILLED_IN = {("item_linear", "regularisation")}
"""Arrays that states of earlier versions lack, and that loading fills in."""


@pytest.mark.parametrize("family", ALL)
def test_every_array_of_every_family_is_held_against_its_layout(family):
    matrix = rated_matrix(3)
    model = build(family, small(family)).fit(matrix, features=features_for(matrix))
    state = model.state()
    again = build(family, model.params())
    tried = 0
    for name, array in state.items():
        for label, changed in broken(name, array):
            if is_harmless(label, name, array):
                continue
            named = refused(lambda changed=changed, name=name: again.restore(state | {name: changed}, matrix))
            # of two arrays that must be of one length either may be the wrong one
            assert named == name or (named and label in SAME_LENGTH), (name, label, named)
            tried += 1
        without = {other: kept for other, kept in state.items() if other != name}
        if (family, name) in FILLED_IN:
            again.restore(without, matrix)
            continue
        with pytest.raises(DataError, match="missing"):
            again.restore(without, matrix)
    with pytest.raises(DataError, match="has no array 'more'"):
        again.restore(state | {"more": np.zeros(1)}, matrix)
    assert tried >= 4 * len(state) - 2
    again.restore(state, matrix)


def test_every_array_of_a_training_matrix_is_held_against_its_layout():
    arrays = arrays_of(with_kinds())
    assert len(arrays) == 12
    for name, array in arrays.items():
        for label, changed in broken(name, array):
            if name in ("item_offsets", "kind_offsets") and label == "one longer":
                # an item or a kind more, with an empty name and no cell
                matrix_of(arrays | {name: changed})
                continue
            assert refused(lambda changed=changed, name=name: matrix_of(arrays | {name: changed})), (name, label)
    matrix = matrix_of(arrays)
    assert matrix.kind_names == ("view", "save")


@pytest.mark.parametrize(
    ("name", "at", "value", "message"),
    [
        ("indices", 0, 2**31 - 1, "must stay below"),
        ("indices", 0, -1, "below 0"),
        ("user_bytes", 0, 255, "UTF-8"),
        ("item_bytes", 1, ord("1"), "more than once"),
        ("kinds", 0, 4, "beyond the 2 that are named"),
        ("scale", 0, 1e9, "must rise"),
        ("days", 0, np.inf, "not a finite number"),
    ],
)
def test_what_one_entry_can_do(name, at, value, message):
    arrays = arrays_of(with_kinds())
    with pytest.raises(DataError, match=message):
        matrix_of(arrays | {name: put(arrays[name], value, at)})


def test_items_that_come_twice_or_fall_within_a_user_are_refused():
    arrays = arrays_of(with_kinds())
    first = int(np.flatnonzero(np.diff(arrays["indptr"]) > 1)[0])
    at = int(arrays["indptr"][first])
    for value in (arrays["indices"][at + 1], arrays["indices"][at + 1] + 1):
        with pytest.raises(DataError, match="must rise within each user"):
            matrix_of(arrays | {"indices": put(arrays["indices"], min(value, 23), at)})


@settings(max_examples=200, deadline=None)
@given(data=st.data())
def test_a_file_with_changed_bytes_is_read_as_what_it_holds_or_refused(data, tmp_path_factory):
    folder = tmp_path_factory.mktemp("arrays")
    write_arrays(arrays_of(with_kinds()), folder / "matrix.safetensors")
    raw = bytearray((folder / "matrix.safetensors").read_bytes())
    for _ in range(data.draw(st.integers(1, 4))):
        raw[data.draw(st.integers(0, len(raw) - 1))] = data.draw(st.integers(0, 255))
    (folder / "matrix.safetensors").write_bytes(raw[: data.draw(st.integers(1, len(raw)))])
    try:
        matrix = matrix_of(read_arrays(folder / "matrix.safetensors"))
    except DataError:
        return
    assert matrix.indptr[-1] == matrix.n_cells
    assert ((matrix.indices >= 0) & (matrix.indices < len(matrix.items))).all()
