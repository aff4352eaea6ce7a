"""How long work will take, learned from what earlier work took on this machine, with a range."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

PRIOR_WEIGHT = 2.0
"""Earlier observations that the prior counts as: a first one moves the expectation by a third of its distance."""
PRIOR_SPREAD = math.log(3.0)
"""Standard deviation of log(taken / counted) before anything has run: two thirds of all lie within a factor of 3."""
QUANTILE = 1.2816
"""Of the standard normal distribution, for the middle 80 %."""
LARGEST_RATIO = 1000.0


@dataclass(frozen=True)
class ExpectedTime:
    """Seconds. The time lies between low and high four times out of five, as far as earlier work tells."""

    seconds: float
    low: float
    high: float

    def __add__(self, other: ExpectedTime) -> ExpectedTime:
        """Return the time of both. Their ranges are added: what slows one down slows the other down too."""
        return ExpectedTime(self.seconds + other.seconds, self.low + other.low, self.high + other.high)


def expected_time(counted: float, of_its_sort: Sequence[float], of_every_sort: Sequence[float] = ()) -> ExpectedTime:
    """Return the expected time of work that a count of operations puts at `counted` seconds.

    of_its_sort, of_every_sort: time taken / time counted of earlier work of the same and of any sort, all above 0. The
    logarithms are taken as normal; their mean is shrunk towards that of every sort, and that one towards 0, by a prior
    of PRIOR_WEIGHT observations with standard deviation PRIOR_SPREAD. The range is the middle 80 % of the prediction.
    """
    start, _ = _shrunk(of_every_sort, 0.0)
    mean, spread = _shrunk(of_its_sort, start)
    reach = QUANTILE * spread * math.sqrt(1 + 1 / (len(of_its_sort) + PRIOR_WEIGHT))
    return ExpectedTime(*(counted * math.exp(each) for each in (mean, mean - reach, mean + reach)))


def _shrunk(ratios: Sequence[float], start: float) -> tuple[float, float]:
    """Return mean and standard deviation of the logarithms, with those of the prior among them."""
    most = math.log(LARGEST_RATIO)
    logs = [min(most, max(-most, math.log(ratio))) for ratio in ratios]
    n = len(logs) + PRIOR_WEIGHT
    mean = (sum(logs) + PRIOR_WEIGHT * start) / n
    squares = sum((each - mean) ** 2 for each in logs) + PRIOR_WEIGHT * PRIOR_SPREAD**2
    return mean, math.sqrt(squares / n)
