"""Arrays in safetensors files: written whole, and read as memory maps once the header is known to be true."""

from __future__ import annotations

import json
import os
import re
from pathlib import Path

import numpy as np
from safetensors import SafetensorError, safe_open
from safetensors.numpy import save_file

from gleaner.core.errors import DataError

DTYPES = {"F32": "<f4", "F64": "<f8", "I8": "i1", "I32": "<i4", "I64": "<i8", "U8": "u1", "BOOL": "?"}


def write_arrays(arrays: dict[str, np.ndarray], path: Path) -> None:
    """Write a file, or none. Raises OSError where the disk does not take it: the library's own error is no such thing,
    and names no file."""
    try:
        save_file({name: np.ascontiguousarray(array) for name, array in arrays.items()}, str(path))
    except SafetensorError as error:
        path.unlink(missing_ok=True)
        code = re.search(r"os error (\d+)", str(error))
        if code is None:
            raise
        number = int(code.group(1))
        raise OSError(number, os.strerror(number), str(path)) from error


def read_arrays(path: Path) -> dict[str, np.ndarray]:
    """Arrays as read-only memory maps: pages are read when touched and shared by processes.

    The format: eight bytes of header length, a JSON header with dtype, shape and offsets by name, then the data. The
    library checks that the header is true of the file. Raises DataError where it is not.
    """
    try:
        with safe_open(path, framework="np"):
            pass
    except (SafetensorError, OSError, UnicodeDecodeError) as error:
        raise DataError(f"{path.name} is not a safetensors file: {error}", where=path.name) from None
    with path.open("rb") as file:
        length = int.from_bytes(file.read(8), "little")
        header = json.loads(file.read(length))
    arrays = {}
    for name, facts in header.items():
        if name == "__metadata__":
            continue
        if facts["dtype"] not in DTYPES:
            raise DataError(f"{path.name}: array {name!r} is of an unknown type, {facts['dtype']}", where=name)
        start, stop = facts["data_offsets"]
        shape, dtype = tuple(facts["shape"]), np.dtype(DTYPES[facts["dtype"]])
        # seen as plain arrays: the class of a memory map makes every small slice slow
        arrays[name] = (
            np.empty(shape, dtype)
            if start == stop
            else np.asarray(np.memmap(path, dtype, "r", 8 + length + start, shape))
        )
    return arrays
