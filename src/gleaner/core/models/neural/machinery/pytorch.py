"""PyTorch, where it is installed: only learning needs it. What was learned is plain arrays, and serving runs those."""

from __future__ import annotations

from importlib.util import find_spec
from typing import Any

from gleaner.core.errors import InputError
from gleaner.core.parallel import default_threads

EXTRA = "neural"
"""The optional part of the package that brings it."""
LARGE = 2e8
"""Operations of a step from which on it is worth more than one thread."""


def lacks_pytorch() -> str | None:
    """What to install before a network can learn here; None where nothing is missing."""
    return None if find_spec("torch") else f"PyTorch, which `pip install 'gleaner[{EXTRA}]'` brings"


def pytorch(family: str, operations: float = 0.0) -> Any:
    """The library; on as many threads as this process may use where a step takes many operations, else on one: threads
    that wait for one another cost more than small steps. Raises InputError saying how to install it."""
    missing = lacks_pytorch()
    if missing is not None:
        raise InputError(f"{family} learns with {missing}; a model that has learned needs no PyTorch", where=family)
    import torch

    torch.set_num_threads(default_threads() if operations >= LARGE else 1)
    return torch
