"""Why each item stands in a list, in a sentence, for a request that asks for it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from gleaner.core.fitted import Fitted
from gleaner.core.models.base.capabilities import Terms, terms_of, terms_of_history
from gleaner.core.models.base.context import takes_context
from gleaner.core.ranking.directions import likeness_to
from gleaner.serving.person import Person, asked_in, folded
from gleaner.serving.tables import ItemTable

SHOWN = 2
"""Items of the history that are named."""


class ReasonFinder:
    """What of someone's history speaks most for an item, as one model sees it. given: the context of the request."""

    def __init__(self, fitted: Fitted, person: Person, items: ItemTable, given: Mapping[str, Any]) -> None:
        self.fitted, self.person, self.items = fitted, person, items
        takes = takes_context(fitted.model)
        self._context = None if takes is None else asked_in(takes, given)
        self._is_folded = folded(fitted, person) is not None
        self._touched = np.union1d(person.known, person.recent)

    def of(self, row: int) -> str | None:
        """The sentence for an item; None where nothing of the history speaks for it.

        A score that is a sum over the history names the items that add most, one that is a sum of inputs these;
        otherwise the items most alike.
        """
        if not self.fitted.model.personal or not len(self._touched):
            return None
        terms = self._terms(row)
        if terms is not None and terms.side == "input":
            names, added = terms.names or [], most_added(terms)
            return f"mostly by {' and by '.join(names[place] for place in added)}" if added else None
        if terms is not None and terms.side == "item":
            added = most_added(terms)
            return f"mostly because of {self._named(added)}" if len(added) else None
        likeness, by = likeness_to(self.fitted.model, self.fitted.train, "item", row)
        order = self._touched[np.argsort(-likeness[self._touched], kind="stable")]
        near = [each for each in order.tolist() if each != row and likeness[each] > 0][:SHOWN]
        return f"like {self._named(near)}, by {by}" if near else None

    def _terms(self, row: int) -> Terms | None:
        """Return what a score is the sum of, or None if it is no sum."""
        if self._is_folded:
            history = self.person.whole(self.fitted.typical_value)
            return None if self._context is not None else terms_of_history(self.fitted.model, *history, row)
        if self.person.row is None:
            return None
        return terms_of(self.fitted.model, self.person.row, row, self._context)

    def _named(self, rows: list[int]) -> str:
        ids = self.fitted.train.items.take(np.array(rows, dtype=np.int32))
        pairs = zip(ids, self.items.labels_of(ids), strict=True)
        return " and ".join(f"{label} ({id})" if label else id for id, label in pairs)


def most_added(terms: Terms) -> list[int]:
    """The rows that add most to a score, and something."""
    adds = terms.columns["adds"]
    return [int(terms.rows[at]) for at in np.argsort(-adds, kind="stable")[:SHOWN] if adds[at] > 0]
