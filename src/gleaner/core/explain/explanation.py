"""Why a score is what it is."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import polars as pl

from gleaner.core.notebook import html_lines, html_table
from gleaner.core.ranking.directions import Side


@dataclass(frozen=True, eq=False)
class Explanation:
    """Why a score is what it is. kind: `sum` where terms add up to it, `nearest` where they only are the closest of the
    history. side: what terms are of: items, users, or inputs of a second stage. terms: a place per row, most telling
    first, with the id and the columns of the formula."""

    user: str
    item: str
    kind: str
    score: float
    start: float
    result: float | None
    formula: str
    side: Side | Literal["input"]
    terms: pl.DataFrame

    def _repr_html_(self) -> str:
        title = f"{self.item} for {self.user}: {self.score:.4f} ({self.kind}; {self.formula})"
        return html_lines([title]) + html_table(self.terms)

    def __repr__(self) -> str:
        return f"{self.item} for {self.user}: {self.score:.4f} ({self.kind}; {self.formula})\n{self.terms}"
