"""What the live rows of one user weigh for a model: the cells that training would have made of them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Literal

from gleaner.core.data.live import LiveRow

Merged = Literal["sum", "count", "max", "mean", "latest"]


@dataclass(frozen=True)
class LiveMeasure:
    """How a model's preparation reads a row.

    kinds: weight per kind, others are passed over; empty: every kind counts 1, but for `drop_kinds`. values: whether a
    cell is a value rather than a weight; a row without one is then passed over, not read as zero. like_from: the least
    value that counts. typical: for a cell whose size cannot be known here, as after a learned transform; None where
    the rows say it. Decay leaves new rows whole, so it changes nothing here.
    """

    kinds: Mapping[str, float] = field(default_factory=dict)
    drop_kinds: tuple[str, ...] = ()
    values: bool = False
    like_from: float | None = None
    merge: Merged = "sum"
    typical: float | None = None

    def of(self, row: LiveRow) -> float | None:
        """What one row measures; None where training would not have seen it."""
        if self.kinds and row.kind not in self.kinds:
            return None
        if row.kind in self.drop_kinds:
            return None
        weight = self.kinds.get(row.kind or "", 1.0)
        if self.like_from is not None:
            return weight if row.value is not None and row.value >= self.like_from else None
        if self.values:
            return None if row.value is None else row.value * weight
        return weight

    def cells(self, rows: Iterable[LiveRow]) -> dict[str, float]:
        """One value for each item, in the order in which items were last touched."""
        found: dict[str, list[float]] = {}
        for row in rows:
            measured = self.of(row)
            if measured is not None:
                found[row.item] = [*found.pop(row.item, []), measured]
        return {item: self.typical if self.typical is not None else self._merged(all_) for item, all_ in found.items()}

    def _merged(self, measured: list[float]) -> float:
        match self.merge:
            case "count":
                return float(len(measured))
            case "max":
                return max(measured)
            case "latest":
                return measured[-1]
            case "mean":
                return sum(measured) / len(measured)
            case _:
                return sum(measured)
