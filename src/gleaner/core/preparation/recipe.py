"""How a preparation reads rows: declared as steps, and compiled once into what a row measures.

Training, live events, the checks of files and shelves all read by the same Recipe.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Literal

from gleaner.core.errors import ParameterError, require_range
from gleaner.core.preparation.merging import Merge
from gleaner.core.preparation.transforms import Transform

Measure = Literal["weights", "values"]


@dataclass(frozen=True)
class Preparation:
    """The declared steps, in the order in which they are taken.

    On rows, before the split, each row by itself:
    kinds: weight per kind; kinds not named are dropped. Empty: every kind counts 1. drop_kinds: all but these.
    since, until: keep rows at or after, and before, these moments. last_days: keep the days before the last row.
    use: what a row measures: its kind's weight, or its value (times its kind's weight).
    like_from: explicit to implicit: a row with at least this value counts its kind's weight, any other is dropped.

    On training rows, after the split:
    drop_users_over: drop users with more rows than this (robots).
    half_life_days: a row weighs half as much for every so many days before the last training row.
    merge: how repeats of one (user, item) become one cell; left out: the sum of weights, the mean of values (something
    rated twice is not liked twice as much). `latest` needs times.
    transform: steps on cell values, in order.
    min_user, min_item: prune users with fewer items, and items with fewer users, until stable (a k-core).
    """

    kinds: dict[str, float] = field(default_factory=dict)
    drop_kinds: list[str] = field(default_factory=list)
    since: datetime | None = None
    until: datetime | None = None
    last_days: float | None = None
    use: Measure | None = None
    like_from: float | None = None
    drop_users_over: int | None = None
    half_life_days: float | None = None
    merge: Merge | None = None
    transform: tuple[Transform, ...] = ()
    min_user: int = 1
    min_item: int = 1

    def __post_init__(self) -> None:
        require_range("min_user", self.min_user, 1, whole=True)
        require_range("min_item", self.min_item, 1, whole=True)
        for kind, weight in self.kinds.items():
            require_range(f"kinds.{kind}", weight, 0)
        if self.kinds and self.drop_kinds:
            raise ParameterError("give kinds with their weights, or drop_kinds, not both", where="drop_kinds")
        for name, low in (("last_days", 0), ("half_life_days", 0)):
            value = getattr(self, name)
            if value is not None and not value > low:
                raise ParameterError(f"{name} must be above {low}, not {value!r}", where=name)
        if self.drop_users_over is not None:
            require_range("drop_users_over", self.drop_users_over, 1, whole=True)

    def needs(self) -> list[tuple[str, str, str]]:
        """The columns that it asks for: the field that asks, `time` or `value`, and what for."""
        columns = [
            ("window", "time", "a window", any(each is not None for each in (self.since, self.until, self.last_days))),
            ("half_life_days", "time", "a half-life", self.half_life_days is not None),
            ("merge", "time", "merging by the latest", self.merge == "latest"),
            ("use", "value", "use: values", self.use == "values" and self.like_from is None),
            ("like_from", "value", "like_from", self.like_from is not None),
        ]
        return [(field_name, column, what) for field_name, column, what, wanted in columns if wanted]


@dataclass(frozen=True)
class Recipe:
    """What a row measures, and how rows of one user and item become a cell.

    kinds: the weight of each kind, others are dropped; empty: every kind weighs 1, but for `drop_kinds`, which are
    dropped. like_from: the least value that counts; a row without one is dropped. values: a row measures its value
    times its kind's weight, and one without a value is dropped, not read as zero; else it measures the weight.
    """

    kinds: Mapping[str, float] = field(default_factory=dict)
    drop_kinds: tuple[str, ...] = ()
    like_from: float | None = None
    values: bool = False
    merge: Merge = "sum"

    @classmethod
    def of(cls, how: Preparation, *, has_values: bool) -> Recipe:
        """Compile a preparation for data that has a value column or not: what it leaves open is settled here."""
        use = how.use or ("weights" if how.kinds or not has_values else "values")
        values = use == "values" and how.like_from is None
        merge = how.merge or ("mean" if values else "sum")
        return cls(how.kinds, tuple(how.drop_kinds), how.like_from, values, merge)

    @property
    def is_plain(self) -> bool:
        """Whether every row measures the same."""
        return not self.values and not self.kinds

    @property
    def weighs(self) -> bool:
        """Whether a kind changes what a value counts."""
        return any(weight != 1 for weight in self.kinds.values())

    def weight(self, kind: str | None) -> float | None:
        """What a kind weighs; None where its rows are dropped. A row without a kind is of no kind that was named: it
        goes with `kinds`, and stays with `drop_kinds`."""
        if self.kinds:
            return None if kind is None else self.kinds.get(kind)
        return None if kind in self.drop_kinds else 1.0

    def weights(self, kinds: Collection[str | None]) -> dict[str | None, float]:
        """The weights of the kinds that are kept of these."""
        by_kind = {kind: self.weight(kind) for kind in kinds}
        return {kind: weight for kind, weight in by_kind.items() if weight is not None}

    def measured(self, kind: str | None, value: float | None) -> float | None:
        """What one row measures; None where it is dropped."""
        weight = self.weight(kind)
        if weight is None:
            return None
        if self.like_from is not None:
            return weight if value is not None and value >= self.like_from else None
        if self.values:
            return None if value is None else value * weight
        return weight

    def merged(self, measured: list[float]) -> float:
        """The cell of one user and item, from what their rows measure, oldest first."""
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
