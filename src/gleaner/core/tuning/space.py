"""What a search may vary: parameters with ranges beside fixed ones."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from itertools import product
from typing import Any

import numpy as np

from gleaner.core.errors import ParameterError, near
from gleaner.core.models.base.registry import build, family

RANGE_KEYS = ("choose", "between", "log", "step")
MAX_GRID = 100_000


@dataclass(frozen=True)
class Categorical:
    """One of some values."""

    values: tuple[Any, ...]

    @property
    def points(self) -> list[Any]:
        """Every value."""
        return list(self.values)

    @property
    def ends(self) -> list[Any]:
        """Every value: any may be refused."""
        return list(self.values)

    def at(self, place: float) -> Any:
        """The value at a place in [0, 1)."""
        return self.values[min(int(place * len(self.values)), len(self.values) - 1)]


@dataclass(frozen=True)
class Between:
    """Numbers from low to high, both included; whole ones, in steps, or evenly by their logarithm where so declared."""

    low: float
    high: float
    log: bool = False
    step: float | None = None
    whole: bool = False

    @property
    def points(self) -> list[Any] | None:
        """Every value, ascending; None where there is no end of them."""
        step = self.step or (1 if self.whole else None)
        if step is None:
            return None
        n = math.floor((self.high - self.low) / step + 1e-9) + 1
        return [self._cast(self.low + place * step) for place in range(min(n, MAX_GRID + 1))]

    @property
    def ends(self) -> list[Any]:
        """The lowest and the highest: what holds for both holds for all between."""
        return [self._cast(self.low), self._cast(self.high)]

    def at(self, place: float) -> Any:
        """The value at a place in [0, 1)."""
        if self.step is not None:
            points = self.points
            assert points is not None
            return points[min(int(place * len(points)), len(points) - 1)]
        # a whole number owns the stretch up to the next one, so that both ends come as often as the others
        high = self.high + 1 if self.whole else self.high
        if self.log:
            value = math.exp(math.log(self.low) + place * (math.log(high) - math.log(self.low)))
        else:
            value = self.low + place * (high - self.low)
        # of a logarithm and back again, a whole number may come out just below itself
        value = math.floor(value + 1e-9) if self.whole else value
        return self.tidy(min(max(value, self.low), self.high))

    def tidy(self, value: float) -> Any:
        """The value as it is tried: four digits say as much as sixteen, and people read them."""
        if self.whole or self.step is not None:
            return self._cast(value)
        return min(max(float(f"{value:.4g}"), self.low), self.high)

    def _cast(self, value: float) -> Any:
        return round(value) if self.whole else float(value)


Range = Categorical | Between


@dataclass(frozen=True)
class Space:
    """The parameters of one family that stay, and the ranges of those that vary."""

    family: str
    fixed: dict[str, Any]
    ranges: dict[str, Range] = field(default_factory=dict)

    @property
    def size(self) -> float:
        """How many settings there are; infinity where one range has no steps."""
        counts = [len(points) if (points := each.points) is not None else math.inf for each in self.ranges.values()]
        return math.prod(counts)

    def at(self, places: np.ndarray) -> dict[str, Any]:
        """The setting at a point of the unit cube: float64 (n ranges,), each in [0, 1)."""
        return {name: each.at(float(place)) for (name, each), place in zip(self.ranges.items(), places, strict=True)}

    def grid(self) -> list[dict[str, Any]]:
        """Every setting. Raises ParameterError where a range has no steps, or there are too many."""
        lists = []
        for name, each in self.ranges.items():
            points = each.points
            if points is None:
                raise ParameterError(f"a grid needs steps: give {name} a `step`, or values to `choose`", where=name)
            lists.append(points)
        if self.size > MAX_GRID:
            raise ParameterError(f"the grid has {self.size:,.0f} settings, more than {MAX_GRID:,}", where="search")
        return [dict(zip(self.ranges, values, strict=True)) for values in product(*lists)]

    def whole(self, chosen: dict[str, Any]) -> dict[str, Any]:
        """All parameters of a setting."""
        return self.fixed | chosen


def is_range(value: Any) -> bool:
    """Whether a parameter's value declares a range."""
    return isinstance(value, dict) and bool({"choose", "between"} & set(value))


def space_of(name: str, params: dict[str, Any]) -> Space:
    """Read parameters of a family, some of them `{choose: [...]}` or `{between: [low, high], log: true, step: 2}`.

    Raises ParameterError naming a parameter that does not exist, or whose range is no range or reaches values that the
    family refuses.
    """
    defaults = family(name)().params()
    for key in params:
        if key not in defaults:
            raise ParameterError(f"{name} has no parameter {key!r}{near(key, defaults)}", where=key)
    ranges = {key: _range(key, value, defaults[key]) for key, value in params.items() if is_range(value)}
    space = Space(name, {key: value for key, value in params.items() if key not in ranges}, ranges)
    first = {key: each.ends[0] for key, each in ranges.items()}
    build(name, space.whole(first))
    for key, each in ranges.items():
        for value in each.ends:
            build(name, space.whole(first | {key: value}))
    return space


def _range(name: str, given: dict[str, Any], default: Any) -> Range:
    for key in given:
        if key not in RANGE_KEYS:
            raise ParameterError(f"a range has no {key!r}{near(key, RANGE_KEYS)}", where=name)
    if "choose" in given:
        values = given["choose"]
        if len(given) > 1:
            raise ParameterError("`choose` lists the values, so nothing else goes with it", where=name)
        if not isinstance(values, list) or not values:
            raise ParameterError(f"choose must be a list of values, not {values!r}", where=name)
        return Categorical(tuple(values))
    return _between(name, given, default)


def _between(name: str, given: dict[str, Any], default: Any) -> Between:
    ends, log, step = given["between"], given.get("log", False), given.get("step")
    if isinstance(default, bool) or not (default is None or isinstance(default, int | float)):
        raise ParameterError(f"{name} is not a number: name its values with `choose`", where=name)
    if not (isinstance(ends, list) and len(ends) == 2 and all(_is_number(end) for end in ends)):
        raise ParameterError(f"between must be [low, high], not {ends!r}", where=name)
    low, high = ends
    if not low < high:
        raise ParameterError(f"between must go from low to high, and {low!r} is not below {high!r}", where=name)
    if not isinstance(log, bool):
        raise ParameterError(f"log must be true or false, not {log!r}", where=name)
    if log and low <= 0:
        raise ParameterError(f"by logarithm the range must begin above 0, not at {low!r}", where=name)
    if step is not None and (not _is_number(step) or step <= 0 or log):
        raise ParameterError("step must be a number above 0, and does not go with log", where=name)
    whole = isinstance(default, int)
    if whole and any(isinstance(each, float) and not each.is_integer() for each in (low, high, step or 1)):
        raise ParameterError(f"{name} is a whole number, and so must its range be", where=name)
    return Between(float(low), float(high), log, None if step is None else float(step), whole)


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and math.isfinite(value)


def settled(name: str, params: dict[str, Any]) -> dict[str, Any]:
    """One setting within the ranges, the middle of each: what an estimate is made for."""
    space = space_of(name, params)
    return space.whole(space.at(np.full(len(space.ranges), 0.5)))
