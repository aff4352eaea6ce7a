"""The plain C++ peers, compiled on first use."""

from __future__ import annotations

import ctypes
import functools
import subprocess
from pathlib import Path

import numpy as np

SOURCE = Path(__file__).parent / "peers.cpp"
FLAGS = ["-O3", "-march=native", "-ffast-math", "-fopenmp", "-shared", "-fPIC"]


@functools.cache
def library() -> ctypes.CDLL:
    """The compiled peers, compiled anew where the source is newer."""
    compiled = Path(__file__).parents[1] / "results" / "peers.so"
    compiled.parent.mkdir(exist_ok=True)
    if not compiled.exists() or compiled.stat().st_mtime < SOURCE.stat().st_mtime:
        subprocess.run(["g++", *FLAGS, "-o", str(compiled), str(SOURCE)], check=True)
    return ctypes.CDLL(str(compiled))


def address(array: np.ndarray) -> ctypes.c_void_p:
    """Where an array begins. It must be in C order."""
    assert array.flags.c_contiguous
    return ctypes.c_void_p(array.ctypes.data)
