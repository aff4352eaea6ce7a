"""A training matrix as plain arrays, and back."""

from __future__ import annotations

import numpy as np

from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix

Arrays = dict[str, np.ndarray]


def arrays_of(matrix: InteractionMatrix) -> Arrays:
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
        arrays["scale"] = np.array(matrix.scale)
    if matrix.days is not None:
        arrays["days"] = matrix.days
    if matrix.kinds is not None:
        names, offsets = IdMap(matrix.kind_names).to_arrays()
        arrays |= {"kinds": matrix.kinds.view(np.int64), "kind_bytes": names, "kind_offsets": offsets}
    return arrays


def matrix_of(arrays: Arrays) -> InteractionMatrix:
    """The matrix of `arrays_of`."""
    kind_names: tuple[str, ...] = ()
    if "kinds" in arrays:
        kind_names = tuple(IdMap.from_arrays(arrays["kind_bytes"], arrays["kind_offsets"]).ids.to_pylist())
    return InteractionMatrix(
        indptr=arrays["indptr"],
        indices=arrays["indices"],
        values=arrays["values"],
        users=IdMap.from_arrays(arrays["user_bytes"], arrays["user_offsets"]),
        items=IdMap.from_arrays(arrays["item_bytes"], arrays["item_offsets"]),
        scale=(float(arrays["scale"][0]), float(arrays["scale"][1])) if "scale" in arrays else None,
        days=arrays.get("days"),
        kinds=arrays["kinds"].view(np.uint64) if "kinds" in arrays else None,
        kind_names=kind_names,
    )
