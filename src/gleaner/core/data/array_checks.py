"""What the arrays of a file must be, and the one check of it.

Kernels follow offsets and indices without looking at bounds. So whatever comes from a file, a model taken in, a
training matrix, an artefact of a restored folder, is held against a declared layout before anything uses it.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from gleaner.core.errors import DataError

Arrays = Mapping[str, np.ndarray]


@dataclass(frozen=True)
class ArraySpec:
    """One array of a file.

    shape: lengths; a text stands for a length that is free, and the same wherever it stands in one layout.
    low, below: the range of whole numbers, `below` left out of it; a text names the array whose first entry it is.
    offsets_of: the array that these offsets divide: they begin at 0, never fall, and end at its length.
    missing: whether NaN is allowed; infinity never is. rising: whether the first entry must be the least, and so on.
    optional: whether the file may lack it.
    """

    dtype: str
    shape: tuple[int | str, ...]
    low: int | None = None
    below: int | str | None = None
    offsets_of: str | None = None
    missing: bool = False
    rising: bool = False
    optional: bool = False


Layout = Mapping[str, ArraySpec]


def check_arrays(arrays: Arrays, layout: Layout, what: str) -> None:
    """Hold arrays against a layout. Raises DataError naming the array, what it must be and what it is.

    what: whose arrays these are, for the message. Cost: one pass over each array, no copies.
    """
    for name in arrays:
        if name not in layout:
            raise DataError(f"{what} has no array {name!r}; it has: {', '.join(layout)}", where=name)
    lengths: dict[str, int] = {}
    for name, spec in layout.items():
        if name in arrays:
            _check_form(arrays[name], name, spec, what, lengths)
        elif not spec.optional:
            raise DataError(f"{what}: array {name!r} is missing", where=name)
    for name, spec in layout.items():
        if name in arrays:
            _check_entries(arrays, name, spec, what)


def _check_form(array: np.ndarray, name: str, spec: ArraySpec, what: str, lengths: dict[str, int]) -> None:
    if array.dtype != np.dtype(spec.dtype):
        raise DataError(f"{what}: array {name!r} must hold {spec.dtype}, not {array.dtype}", where=name)
    fits = len(array.shape) == len(spec.shape) and all(
        has == (wanted if isinstance(wanted, int) else lengths.setdefault(wanted, has))
        for has, wanted in zip(array.shape, spec.shape, strict=True)
    )
    if not fits:
        wanted = " x ".join(str(each if isinstance(each, int) else lengths.get(each, each)) for each in spec.shape)
        has = " x ".join(map(str, array.shape)) or "a single number"
        raise DataError(f"{what}: array {name!r} must be {wanted} long, not {has}", where=name)


def _check_entries(arrays: Arrays, name: str, spec: ArraySpec, what: str) -> None:
    array = arrays[name]
    if array.dtype.kind == "f":
        _check_numbers(array, name, spec, what)
    if spec.offsets_of is not None:
        _check_offsets(array, name, len(arrays[spec.offsets_of]), what)
    if not array.size:
        return
    if spec.low is not None and array.min() < spec.low:
        raise DataError(f"{what}: array {name!r} holds {array.min()}, below {spec.low}", where=name)
    below = int(arrays[spec.below][0]) if isinstance(spec.below, str) else spec.below
    if below is not None and array.max() >= below:
        raise DataError(f"{what}: array {name!r} holds {array.max()}, and must stay below {below}", where=name)
    if spec.rising and (array[1:] < array[:-1]).any():
        raise DataError(f"{what}: the entries of array {name!r} must rise", where=name)


def _check_numbers(array: np.ndarray, name: str, spec: ArraySpec, what: str) -> None:
    if not array.size:
        return
    # the least and the greatest bound every entry without a copy: NaN passes through both, and so does infinity
    ends = (np.nanmin, np.nanmax) if spec.missing and not np.isnan(array).all() else (np.min, np.max)
    for end in ends:
        value = end(array)
        if not np.isfinite(value) and not (spec.missing and np.isnan(value)):
            raise DataError(f"{what}: array {name!r} holds {value}, which is not a finite number", where=name)


def _check_offsets(array: np.ndarray, name: str, end: int, what: str) -> None:
    if not len(array) or array[0] != 0 or array[-1] != end or (array[1:] < array[:-1]).any():
        raise DataError(
            f"{what}: the offsets in array {name!r} must begin at 0, never fall, and end at {end}", where=name
        )
