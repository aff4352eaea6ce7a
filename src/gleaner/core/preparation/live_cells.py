"""What the live rows of one user weigh for a model: the cells that training would have made of them."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from gleaner.core.data.live import LiveRow
from gleaner.core.preparation.recipe import Recipe

EVERY_ROW = Recipe()
"""Every row weighs 1, and repeats add up."""


@dataclass(frozen=True)
class LiveReading:
    """A model's recipe for rows that came since it learned.

    typical: for a cell whose size cannot be known here, as after a learned transform; None where the rows say it.
    Decay leaves new rows whole, so it changes nothing here.
    """

    recipe: Recipe = EVERY_ROW
    typical: float | None = None

    def cells(self, rows: Iterable[LiveRow]) -> dict[str, float]:
        """One value for each item, in the order in which items were last touched."""
        by_item: dict[str, list[float]] = {}
        for row in rows:
            measured = self.recipe.measured(row.kind, row.value)
            if measured is not None:
                by_item[row.item] = [*by_item.pop(row.item, []), measured]
        if self.typical is not None:
            return dict.fromkeys(by_item, self.typical)
        return {item: self.recipe.merged(measured) for item, measured in by_item.items()}

    def dropped(self, rows: Iterable[LiveRow]) -> set[str]:
        """Return items of rows of selected kinds that measure nothing, such as a value below the threshold."""
        return {
            row.item
            for row in rows
            if self.recipe.weight(row.kind) is not None and self.recipe.measured(row.kind, row.value) is None
        }
