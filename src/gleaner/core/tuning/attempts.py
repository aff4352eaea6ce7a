"""Attempts of a search, apart from the search itself: whoever only reports them need not load the search library."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Literal

Method = Literal["bayesian", "random", "quasi_random", "grid"]
State = Literal["done", "pruned", "failed"]


@dataclass(frozen=True)
class TunedTrial:
    """One setting that was tried. curve: the deciding metric by iteration, as far as it was followed."""

    chosen: dict[str, Any]
    state: State
    value: float | None
    curve: dict[int, float] = field(default_factory=dict)
