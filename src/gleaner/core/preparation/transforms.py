"""Transforms of cell values. What a transform needs to know is learned from training cells and then held."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from gleaner.core.errors import DataError, ParameterError, near, require_range

Apply = Callable[[np.ndarray], np.ndarray]
TransformName = Literal["log1p", "cap", "rescale", "confidence"]


@dataclass(frozen=True)
class Transform:
    """One step on cell values.

    log1p: log(1 + x), x > -1. cap: values above the quantile `by[0]` of the training cells are set to it.
    rescale: linearly from the training cells' range to [by[0], by[1]]. confidence: 1 + by[0] * x
    (Hu, Koren, Volinsky 2008, section 4).
    """

    name: TransformName
    by: tuple[float, ...] = ()

    def __post_init__(self) -> None:
        wanted = {"log1p": 0, "cap": 1, "rescale": 2, "confidence": 1}
        if self.name not in wanted:
            raise ParameterError(f"there is no transform {self.name!r}{near(self.name, wanted)}", where="transform")
        if len(self.by) != wanted[self.name]:
            raise ParameterError(f"{self.name} takes {wanted[self.name]} numbers, not {len(self.by)}", where=self.name)
        if self.name == "cap":
            require_range("cap", self.by[0], 0.0, 1.0)
        if self.name == "confidence":
            require_range("confidence", self.by[0], 0)
        if self.name == "rescale" and not self.by[0] < self.by[1]:
            raise ParameterError(f"rescale needs a lower and a higher bound, not {list(self.by)}", where="rescale")

    def learn(self, values: np.ndarray) -> tuple[Apply, str]:
        """From the training cells, float64 (n_cells,): what to do with any value, and the sentence for the report."""
        return _LEARNERS[self.name](values, self.by)


def _log1p(values: np.ndarray, by: Sequence[float]) -> tuple[Apply, str]:
    if (values <= -1).any():
        raise DataError(f"log1p needs values above -1; the lowest is {values.min():g}", where="prepare.transform")
    return np.log1p, "x becomes log(1 + x)"


def _cap(values: np.ndarray, by: Sequence[float]) -> tuple[Apply, str]:
    top = float(np.quantile(values, by[0]))
    above = int((values > top).sum())
    return lambda x: np.minimum(x, top), f"{above:,} cells above {top:g}, quantile {by[0]:g}, set to it"


def _rescale(values: np.ndarray, by: Sequence[float]) -> tuple[Apply, str]:
    low, high = float(values.min()), float(values.max())
    if low == high:
        raise DataError(f"rescale needs values that differ; every cell is {low:g}", where="prepare.transform")
    a, b = by
    return lambda x: a + (x - low) * ((b - a) / (high - low)), f"from {low:g}..{high:g} to {a:g}..{b:g}"


def _confidence(values: np.ndarray, by: Sequence[float]) -> tuple[Apply, str]:
    return lambda x: 1 + by[0] * x, f"x becomes 1 + {by[0]:g} x"


_LEARNERS: dict[str, Callable[[np.ndarray, Sequence[float]], tuple[Apply, str]]] = {
    "log1p": _log1p,
    "cap": _cap,
    "rescale": _rescale,
    "confidence": _confidence,
}
