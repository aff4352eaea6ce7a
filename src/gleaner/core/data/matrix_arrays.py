"""A training matrix as plain arrays, and back."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from gleaner.core.data.array_checks import Arrays, ArraySpec, Layout, check_arrays
from gleaner.core.data.ids import IdMap, id_problem
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import DataError

WHAT = "the training matrix"
MAX_KINDS = 64


def arrays_of(matrix: InteractionMatrix) -> dict[str, np.ndarray]:
    """A training matrix as plain arrays."""
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
    if matrix.scale is not None:
        arrays["scale"] = np.array(matrix.scale, dtype=np.float64)
    if matrix.days is not None:
        arrays["days"] = matrix.days
    if matrix.kinds is not None:
        names, offsets = IdMap(matrix.kind_names).to_arrays()
        arrays |= {"kinds": matrix.kinds.view(np.int64), "kind_bytes": names, "kind_offsets": offsets}
    return arrays


def layout_of(n_items: int) -> Layout:
    """What the arrays of a training matrix with so many items must be."""
    return {
        "user_bytes": ArraySpec("uint8", ("bytes of users",)),
        "user_offsets": ArraySpec("int64", ("users + 1",), offsets_of="user_bytes"),
        "item_bytes": ArraySpec("uint8", ("bytes of items",)),
        "item_offsets": ArraySpec("int64", ("items + 1",), offsets_of="item_bytes"),
        "indptr": ArraySpec("int64", ("users + 1",), offsets_of="indices"),
        "indices": ArraySpec("int32", ("cells",), low=0, below=n_items),
        "values": ArraySpec("float32", ("cells",)),
        "scale": ArraySpec("float64", (2,), rising=True, optional=True),
        "days": ArraySpec("float64", ("cells",), missing=True, optional=True),
        "kinds": ArraySpec("int64", ("cells",), optional=True),
        "kind_bytes": ArraySpec("uint8", ("bytes of kinds",), optional=True),
        "kind_offsets": ArraySpec("int64", ("kinds + 1",), offsets_of="kind_bytes", optional=True),
    }


def matrix_of(arrays: Arrays) -> InteractionMatrix:
    """The matrix of `arrays_of`. Raises DataError naming an array that does not hold what it must."""
    offsets = arrays.get("item_offsets")
    n_items = max(0, len(offsets) - 1) if offsets is not None and offsets.ndim == 1 else 0
    check_arrays(arrays, layout_of(n_items), WHAT)
    users, items = _ids(arrays, "user"), _ids(arrays, "item")
    if not len(users) or not len(items):
        raise DataError(f"{WHAT} has {len(users)} users and {len(items)} items", where="indptr")
    _check_rows(arrays["indptr"], arrays["indices"])
    return InteractionMatrix(
        indptr=arrays["indptr"],
        indices=arrays["indices"],
        values=arrays["values"],
        users=users,
        items=items,
        scale=(float(arrays["scale"][0]), float(arrays["scale"][1])) if "scale" in arrays else None,
        days=arrays.get("days"),
        kinds=arrays["kinds"].view(np.uint64) if "kinds" in arrays else None,
        kind_names=_kind_names(arrays),
    )


def check_ids(matrix: InteractionMatrix) -> None:
    """Raise DataError where a matrix from elsewhere has ids or kinds that an import would refuse."""
    names = {"user": matrix.users.ids.to_pylist(), "item": matrix.items.ids.to_pylist(), "kind": matrix.kind_names}
    for role, ids in names.items():
        for text in ids:
            if problem := id_problem(text):
                raise DataError(f"{WHAT}: the {role} {text[:80]!r} {problem}", where=f"{role}_bytes")


def _ids(arrays: Arrays, of: str) -> IdMap:
    """Ids of one side. Raises DataError where they are no text, or one comes twice."""
    name = f"{of}_bytes"
    try:
        ids = IdMap.from_arrays(arrays[name], arrays[f"{of}_offsets"])
        ids.ids.validate(full=True)
    except pa.ArrowInvalid:
        raise DataError(f"{WHAT}: array {name!r} does not hold texts in UTF-8", where=name) from None
    if len(ids.ids.unique()) != len(ids):
        raise DataError(f"{WHAT}: array {name!r} holds an id more than once", where=name)
    return ids


def _check_rows(indptr: np.ndarray, indices: np.ndarray) -> None:
    """Items rise within a user, so that none comes twice."""
    rises = indices[1:] > indices[:-1]
    starts = indptr[1:-1]
    rises[starts[(starts > 0) & (starts < len(indices))] - 1] = True
    if not rises.all():
        raise DataError(f"{WHAT}: the items in array 'indices' must rise within each user", where="indices")


def _kind_names(arrays: Arrays) -> tuple[str, ...]:
    given = [name for name in ("kinds", "kind_bytes", "kind_offsets") if name in arrays]
    if not given:
        return ()
    if len(given) < 3:
        raise DataError(f"{WHAT}: {', '.join(given)} cannot be without the other arrays of kinds", where=given[0])
    names = tuple(_ids(arrays, "kind").ids.to_pylist())
    if len(names) > MAX_KINDS:
        raise DataError(f"{WHAT}: array 'kind_offsets' names more than {MAX_KINDS} kinds", where="kind_offsets")
    marks = arrays["kinds"].view(np.uint64)
    if len(names) < MAX_KINDS and (marks >> np.uint64(len(names))).any():
        raise DataError(f"{WHAT}: array 'kinds' marks kinds beyond the {len(names)} that are named", where="kinds")
    return names
