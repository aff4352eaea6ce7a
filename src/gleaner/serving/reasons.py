"""Why each item stands in a list, in a sentence, for a request that asks for it."""

from __future__ import annotations

import numpy as np

from gleaner.core.fitted import Fitted
from gleaner.core.models.base.capabilities import terms_of
from gleaner.core.ranking.directions import likeness_to
from gleaner.serving.person import Person, folded
from gleaner.serving.tables import ItemTable

SHOWN = 2
"""Items of the history that are named."""


class ReasonFinder:
    """What of someone's history speaks most for an item, as one model sees it."""

    def __init__(self, fitted: Fitted, person: Person, items: ItemTable) -> None:
        self.fitted, self.person, self.items = fitted, person, items
        self._is_folded = folded(fitted, person) is not None
        self._touched = np.union1d(person.known, person.recent)

    def of(self, row: int) -> str | None:
        """The sentence for an item; None where nothing of the history speaks for it.

        A score that is a sum over the history names the items that add most; otherwise those most alike.
        """
        if not self.fitted.model.personal or not len(self._touched):
            return None
        added = self._added(row)
        if added is not None:
            return f"mostly because of {self._named(added)}" if len(added) else None
        likeness, by = likeness_to(self.fitted.model, self.fitted.train, "item", row)
        order = self._touched[np.argsort(-likeness[self._touched], kind="stable")]
        near = [each for each in order.tolist() if each != row and likeness[each] > 0][:SHOWN]
        return f"like {self._named(near)}, by {by}" if near else None

    def _added(self, row: int) -> list[int] | None:
        """The items that add most to the score of a trained user, or None where it is no sum over items."""
        if self._is_folded or self.person.row is None:
            return None
        terms = terms_of(self.fitted.model, self.person.row, row)
        if terms is None or terms.side != "item":
            return None
        adds = terms.columns["adds"]
        return [int(terms.rows[at]) for at in np.argsort(-adds, kind="stable")[:SHOWN] if adds[at] > 0]

    def _named(self, rows: list[int]) -> str:
        ids = self.fitted.train.items.take(np.array(rows, dtype=np.int32))
        pairs = zip(ids, self.items.labels_of(ids), strict=True)
        return " and ".join(f"{label} ({id})" if label else id for id, label in pairs)
