"""Expected times: the prior alone, what earlier work changes, and ranges that hold as often as they say."""

from __future__ import annotations

import math

import numpy as np
import pytest

from gleaner.service.expected_time import ExpectedTime, expected_time
from tolerances import EXACT


def test_without_history_the_count_stands_with_a_wide_range():
    expected = expected_time(10.0, [])
    reach = 1.2816 * math.log(3) * math.sqrt(1.5)
    assert expected.seconds == pytest.approx(10.0, rel=EXACT)
    assert expected.low == pytest.approx(10 * math.exp(-reach), rel=EXACT)
    assert expected.high == pytest.approx(10 * math.exp(reach), rel=EXACT)


def test_earlier_work_of_the_same_sort_counts_most():
    # two that took four times as long: half way to 4, in logarithms
    assert expected_time(1.0, [4.0, 4.0]).seconds == pytest.approx(2.0, rel=EXACT)
    # of other sorts alone the same, for the prior moves there
    assert expected_time(1.0, [], [4.0, 4.0]).seconds == pytest.approx(2.0, rel=EXACT)
    start = 20 * math.log(0.1) / 22
    mean = (20 * math.log(4.0) + 2 * start) / 22
    assert expected_time(1.0, [4.0] * 20, [0.1] * 20).seconds == pytest.approx(math.exp(mean), rel=EXACT)


def test_times_of_several_add_up():
    assert ExpectedTime(2.0, 1.0, 4.0) + ExpectedTime(3.0, 2.0, 6.0) == ExpectedTime(5.0, 3.0, 10.0)


def test_a_machine_that_stood_still_once_does_not_decide():
    assert expected_time(1.0, [1.0] * 9 + [1e12]).seconds < 2


@pytest.mark.parametrize("slow", [1 / 30, 1.0, 30.0])
def test_ranges_hold_about_as_often_as_they_say(slow):
    """A machine 30 times slower or quicker than counted, whose times scatter by a factor of 1.5."""
    draw = np.random.default_rng(1)
    taken = slow * np.exp(np.log(1.5) * draw.normal(size=400))
    held = 0
    for place in range(20, 400):
        expected = expected_time(1.0, taken[place - 10 : place].tolist())
        held += expected.low <= taken[place] <= expected.high
    # the prior makes the range wider than it need be, never narrower: 80 % of 380 less three standard deviations
    assert held / 380 > 0.80 - 3 * math.sqrt(0.8 * 0.2 / 380)
    assert expected.high / expected.low < 40
