"""The first stage of a list: a request beside one model, what may be listed for who asks, and the best of it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from gleaner.core.ranking.topn import Lists
from gleaner.serving.conditions import Eligible
from gleaner.serving.person import (
    NO_VALUES,
    NOBODY,
    Person,
    folded_in,
    representation_in,
    scores_in_context,
    why_not_personal,
)
from gleaner.wire.shelves.shelf import RecommendRequest

Best = Callable[[int, np.ndarray | None], Lists]
"""The n best items for who asks, of all that may be listed or, with a mask, of those."""


@dataclass(frozen=True)
class StandIn:
    """What stands in for a trained history, and why: someone was folded in, or this is not their own list. Neither:
    training knew them."""

    folded_in: str | None = None
    fallback: str | None = None


TRAINED = StandIn()


@dataclass(frozen=True, eq=False)
class RequestContext:
    """One request beside one model. left_out: rising item rows, by reason. why: it is this model's turn because another
    has no list, and why that is so."""

    eligible: Eligible
    request: RecommendRequest
    person: Person
    left_out: dict[str, np.ndarray]
    why: str | None = None

    @classmethod
    def of(
        cls, eligible: Eligible, request: RecommendRequest, leave_out: Sequence[str], why: str | None = None
    ) -> RequestContext:
        """Look up who asks. leave_out: of what they know and what they name, which is not listed."""
        person = eligible.person(request)
        rows = {"known": person.known, "recent": person.recent}
        return cls(eligible, request, person, {reason: rows[reason] for reason in leave_out}, why)

    @cached_property
    def allowed(self) -> np.ndarray | None:
        """Where the conditions hold: bool (n_items,), None for everywhere."""
        return self.eligible.allowed(self.request)

    @cached_property
    def left_out_rows(self) -> np.ndarray:
        """All rows left out, rising."""
        parts = [rows for rows in self.left_out.values() if len(rows)]
        return np.unique(np.concatenate(parts)) if len(parts) > 1 else parts[0] if parts else NOBODY

    @property
    def free(self) -> np.ndarray:
        """What may be listed and is not left out: bool (n_items,), one's own."""
        n_items = len(self.eligible.fitted.train.items)
        free = np.ones(n_items, dtype=bool) if self.allowed is None else self.allowed.copy()
        free[self.left_out_rows] = False
        return free

    @cached_property
    def n_allowed(self) -> int:
        """Items that may be listed, but for those left out."""
        if self.request.where is None and not self.eligible.varies:
            return self.eligible.n_fixed
        assert self.allowed is not None
        return int(np.count_nonzero(self.allowed))

    @property
    def stand_in(self) -> StandIn:
        """What stands in for a trained history, where the model has a list for them."""
        if self.person.row is not None or not self.eligible.fitted.model.personal:
            return TRAINED
        return StandIn(folded_in=folded_in(self.person))

    def personal(self, n: int, mask: np.ndarray | None = None) -> Lists | None:
        """The n best for them, of all that may be listed or of those of a mask; None where the model knows nothing of
        them. Recent items and those of events are folded in with the rest of the history."""
        fitted = self.eligible.fitted
        scores = scores_in_context(fitted, self.person, self.request.context)
        if scores is not None:
            return fitted.best_scored(scores, n, self._within(mask), self.left_out_rows)
        representation = representation_in(fitted, self.person, self.request.context)
        if representation is not None:
            return fitted.best_of(representation, n, self._within(mask), self.left_out_rows)
        if self.person.row is not None:
            return fitted.best_for(self.person.row, n, self._within(mask), self.left_out_rows)
        return None

    def for_anyone(self, n: int, mask: np.ndarray | None = None) -> Lists:
        """The n best of a model that is the same for everyone."""
        return self.eligible.fitted.best_from(NOBODY, NO_VALUES, n, self._within(mask), self.left_out_rows)

    def best(self, n: int, mask: np.ndarray | None = None) -> Lists:
        """One or the other."""
        return self.personal(n, mask) or self.for_anyone(n, mask)

    def why_not(self) -> str:
        """Why there is no list of this model for them."""
        return why_not_personal(self.eligible.fitted, self.person)

    def _within(self, mask: np.ndarray | None) -> np.ndarray | None:
        if mask is None or self.allowed is None:
            return self.allowed if mask is None else mask
        return self.allowed & mask

    def counts(self) -> dict[str, int]:
        """Items left out, by reason."""
        by_reason = {reason: len(rows) for reason, rows in self.left_out.items()}
        if self.allowed is not None:
            by_reason["where"] = len(self.eligible.fitted.train.items) - self.n_allowed
        return by_reason
