"""Arrays written to safetensors files."""

from __future__ import annotations

import os
import re
from pathlib import Path

import numpy as np
from safetensors import SafetensorError
from safetensors.numpy import save_file


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
