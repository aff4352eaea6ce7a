"""Who asks a shelf, in the terms of one of its models: what may be listed for them, and the best of it."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

import numpy as np

from gleaner.core.ranking.topn import Lists
from gleaner.serving import lists as recommend
from gleaner.serving.conditions import Eligible
from gleaner.wire.shelves.shelf import RecommendRequest


class RequestContext:
    """One request beside one model. instead: what stands in for a trained history, once a list was made. why: it is
    this model's turn because another has no list, and why that is so."""

    def __init__(
        self, eligible: Eligible, request: RecommendRequest, leave_out: Sequence[str], why: str | None = None
    ) -> None:
        self.eligible, self.request, self.why = eligible, request, why
        self.person = eligible.person(request)
        rows = {"known": self.person.known, "recent": self.person.recent}
        self.left_out = {reason: rows[reason] for reason in leave_out}
        self.instead: str | None = None

    @cached_property
    def allowed(self) -> np.ndarray | None:
        """Where the conditions hold: bool (n_items,), None for everywhere."""
        return self.eligible.allowed(self.request)

    @cached_property
    def gone(self) -> np.ndarray:
        """All rows left out, rising."""
        parts = [rows for rows in self.left_out.values() if len(rows)]
        return np.unique(np.concatenate(parts)) if len(parts) > 1 else parts[0] if parts else recommend.NOBODY

    @property
    def free(self) -> np.ndarray:
        """What may be listed and is not left out: bool (n_items,), one's own."""
        n_items = len(self.eligible.fitted.train.items)
        free = np.ones(n_items, dtype=bool) if self.allowed is None else self.allowed.copy()
        free[self.gone] = False
        return free

    @cached_property
    def n_allowed(self) -> int:
        """Items that may be listed, but for those left out."""
        if self.request.where is None and not self.eligible.varies:
            return self.eligible.n_fixed
        assert self.allowed is not None
        return int(np.count_nonzero(self.allowed))

    def personal(self, n: int, mask: np.ndarray | None = None) -> Lists | None:
        """The n best for them, of all that may be listed or of those of a mask; None where the model knows nothing of
        them."""
        found = recommend.personal_best(self.eligible.fitted, self.person, n, self._within(mask), self.gone)
        if found is None:
            return None
        self.instead = found[1]
        return found[0]

    def for_anyone(self, n: int, mask: np.ndarray | None = None) -> Lists:
        """The n best of a model that is the same for everyone."""
        nothing = recommend.NOBODY, recommend.NO_VALUES
        self.instead = f"{self.eligible.fitted.name}: {self.why or self.why_not()}"
        return self.eligible.fitted.best_from(*nothing, n, self._within(mask), self.gone)

    def why_not(self) -> str:
        """Why there is no list of this model for them."""
        return recommend.why_not_personal(self.eligible.fitted, self.person)

    def best(self, n: int, mask: np.ndarray | None = None) -> Lists:
        """One or the other."""
        return self.personal(n, mask) or self.for_anyone(n, mask)

    def _within(self, mask: np.ndarray | None) -> np.ndarray | None:
        if mask is None or self.allowed is None:
            return self.allowed if mask is None else mask
        return self.allowed & mask

    def counts(self) -> dict[str, int]:
        """Items left out, by reason."""
        found = {reason: len(rows) for reason, rows in self.left_out.items()}
        if self.allowed is not None:
            found["where"] = len(self.eligible.fitted.train.items) - self.n_allowed
        return found
