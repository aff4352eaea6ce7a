"""How much an observed cell counts in models of implicit feedback."""

from __future__ import annotations

from typing import Literal

import numpy as np

from gleaner.core.errors import InputError, ParameterError

Weighting = Literal["value", "log", "binary"]
WEIGHTINGS = ("value", "log", "binary")


def require_weighting(name: str) -> None:
    """Raise ParameterError unless the name is one of WEIGHTINGS."""
    if name not in WEIGHTINGS:
        raise ParameterError(f"weighting must be one of {', '.join(WEIGHTINGS)}, not {name!r}", where="weighting")


def weigh(values: np.ndarray, weighting: Weighting, family: str) -> np.ndarray:
    """Weights of cells, float32: the value, log(1 + value), or 1.

    The logarithm keeps a few heavily repeated cells from drowning the rest (Hu, Koren, Volinsky 2008, eq. 6). Raises
    InputError on a negative value: disliking is not a small interest.
    """
    if weighting == "binary":
        return np.ones(len(values), dtype=np.float32)
    values = np.asarray(values, dtype=np.float32)
    if len(values) and values.min() < 0:
        raise InputError(
            f"{family} takes values as weights, and they cannot be negative (found {values.min():g}); "
            "use weighting: binary, or kinds with weights",
            where="value",
        )
    return np.log1p(values) if weighting == "log" else values
