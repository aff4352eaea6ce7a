"""Contenders whose parameters are searched."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from gleaner.core.contests.plan import SearchPlan
from gleaner.core.tuning.attempts import Method
from gleaner.core.tuning.space import settled


@dataclass(frozen=True)
class TunedContender:
    """A family with ranges of parameters, and how they are searched."""

    family: str
    params: dict[str, Any]
    search: SearchPlan


def tuned(
    family: str,
    *,
    attempts: int = 20,
    method: Method = "bayesian",
    minutes: float | None = None,
    prune: bool = True,
    **params: Any,
) -> TunedContender:
    """A contender for `compare` whose parameters are searched on the validation part.

    params: values, or ranges: `{"choose": [16, 32]}`, `{"between": [0.001, 1], "log": True}`, `{"between": [5, 50],
    "step": 5}`. attempts, minutes: when to stop. method: bayesian, random, quasi_random or grid. prune: stop attempts
    that fall below the median of earlier ones. Raises ParameterError on a range that does not fit.
    """
    settled(family, params)
    return TunedContender(family, params, SearchPlan(method, attempts, minutes, prune))
