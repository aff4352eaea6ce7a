"""When a refresh is due."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest

from gleaner.jobs.worker.schedules import due_at, next_after


def at(text: str) -> datetime:
    return datetime.fromisoformat(text).replace(tzinfo=UTC)


@pytest.mark.parametrize(
    ("every", "last", "now", "due"),
    [
        ("0 3 * * *", "2026-05-01 12:00", "2026-05-02 02:59", None),
        ("0 3 * * *", "2026-05-01 12:00", "2026-05-02 03:00", "2026-05-02 03:00"),
        ("0 3 * * *", "2026-05-02 03:00", "2026-05-02 17:00", None),
        # nobody was there for three days: made up for once, as of the newest
        ("0 3 * * *", "2026-05-02 03:00", "2026-05-05 04:00", "2026-05-05 03:00"),
        ("*/15 9-10 * * 1", "2026-05-01 00:00", "2026-05-04 09:29", "2026-05-04 09:15"),
    ],
)
def test_a_moment_is_due_once_it_has_come(every, last, now, due):
    assert due_at(every, at(last), at(now)) == (None if due is None else at(due))


def test_the_next_moment():
    assert next_after("30 6 1 * *", at("2026-05-01 06:30")) == at("2026-06-01 06:30")


@pytest.mark.parametrize("every", ["0 0 30 2 *", "0 0 31 4,6,9,11 *"])
def test_a_schedule_that_names_no_date_that_occurs_has_no_next_moment(every):
    assert next_after(every, datetime(2026, 1, 1, tzinfo=UTC)) is None
    assert due_at(every, datetime(2026, 1, 1, tzinfo=UTC), datetime(2036, 1, 1, tzinfo=UTC)) is None


def test_a_leap_day_occurs():
    assert next_after("0 0 29 2 *", datetime(2026, 1, 1, tzinfo=UTC)) == datetime(2028, 2, 29, tzinfo=UTC)
