"""What the overview tells, beside what the store and the lists say."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta

import pytest

from gleaner.client import JobFailedError, calls, event_calls, job_calls, service_calls, shelf_calls
from gleaner.service.overview import attention
from gleaner.store.records.jobs import JobRecord
from gleaner.wire.common import Problem
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.events import Event
from gleaner.wire.imports import ImportRequest, Roles
from gleaner.wire.jobs import JobState
from gleaner.wire.overview import ServedData, ServedShelf
from gleaner.wire.shelves.refreshes import Refresh
from stack import wait_for

NOW = datetime(2026, 5, 4, 12, 0, tzinfo=UTC)
SHELF = """shelf: at-a-glance
title: At a glance
candidates: [{model: first-look.als}]
fallback: [{model: first-look.popular}]
refresh: {every: "0 3 * * *"}
"""


def test_the_overview_tells_what_is_served_and_how_it_does(demo):
    demo.client.send(shelf_calls.publish_shelf(FileRequest(file=SHELF)))
    lists = [demo.client.send(calls.recommend("at-a-glance", user=user)) for user in ("g-0100", "g-0101", None)]
    taken = Event(user="g-glance", item=lists[0].list[0].item, kind="view", list_id=lists[0].list_id)
    wait_for(lambda: demo.sql("SELECT count(*) FROM served_lists WHERE shelf = 'at-a-glance'") == [(3,)])
    demo.client.send(event_calls.send_events("seeds", [taken]))
    overview = demo.client.send(service_calls.overview())
    [shelf] = [each for each in overview.shelves if each.shelf == "at-a-glance"]
    assert (shelf.serving, shelf.title, shelf.data) == ("at-a-glance@1", "At a glance", "seeds@1")
    assert (shelf.lists, shelf.lists_last_hour, shelf.users) == (3, 3, 2)
    assert (shelf.fallbacks, shelf.answered) == (1 / 3, 1 / 3)
    shown = {place.item for each in lists for place in each.list}
    assert shelf.catalogue_shown == len(shown) / 898
    assert shelf.refresh is None
    assert (shelf.next_refresh_at.hour, shelf.next_refresh_at.minute) == (3, 0)
    assert overview.totals.shelves == len(demo.client.send(calls.list_shelves(limit=500)).items)
    assert overview.totals.models == len(demo.client.send(calls.list_models(limit=500)).items)
    [data] = [each for each in overview.datasets if each.data == "seeds"]
    assert data.events > 0
    assert data.popularity_drift is not None
    printed = demo.gleaner("overview").stdout
    assert "at-a-glance@1" in printed
    assert "33%" in printed


def test_a_failed_job_needs_attention_until_one_of_its_sort_succeeds(demo):
    file = demo.send_text("user,item\n,x\n", "rows.csv")
    request = ImportRequest(interactions=file, roles=Roles(user="user", item="item"))
    job = demo.client.send(calls.import_version("glance", request))
    with pytest.raises(JobFailedError) as failed:
        demo.client.wait(job.id)
    told = [each for each in demo.client.send(service_calls.overview()).attention if each.name == str(job.id)]
    assert [each.text for each in told] == [f"import glance failed: {failed.value.job.problem.detail}"]
    assert demo.client.send(job_calls.job(job.id)).state == JobState.FAILED


def job(id: int, state: JobState, **more) -> JobRecord:
    plain = JobRecord(
        id=id, kind="import", subject="a", state=state, progress=1.0, message="", attempt=1, created_at=NOW,
        started_at=NOW, finished_at=NOW, seconds_left=None, peak_memory_mb=None, cancel_requested=False, result=None,
        problem=Problem(type="t", title="t", status=422, detail="no row"),
    )  # fmt: skip
    return replace(plain, **more)


def test_which_failures_are_told():
    failed, done = JobState.FAILED, JobState.DONE
    since = NOW - timedelta(days=1)
    assert [each.name for each in attention.of_jobs([job(3, failed), job(2, failed)], since)] == ["3"]
    assert attention.of_jobs([job(3, done), job(2, failed)], since) == []
    assert [each.name for each in attention.of_jobs([job(3, done, subject="b"), job(2, failed)], since)] == ["2"]
    assert attention.of_jobs([job(2, failed, finished_at=NOW - timedelta(days=2))], since) == []


def shelf(**more) -> ServedShelf:
    plain = {
        "shelf": "s",
        "title": "S",
        "serving": "s@1",
        "data": "d@1",
        "lists": 100,
        "lists_last_hour": 0,
        "users": 9,
    }
    return ServedShelf(**plain | {"fallbacks": 0.1, "catalogue_shown": 0.5, "answered": 0.0} | more)


def test_what_of_a_shelf_is_told():
    refresh = Refresh(id=1, shelf="s", state="refused", job=4, began_from="s@1", created_at=NOW, reason="it lost")
    assert attention.of_shelf(shelf(), NOW) == []
    assert attention.of_shelf(shelf(fallbacks=0.4, lists=10), NOW) == []
    [told] = attention.of_shelf(shelf(fallbacks=0.4), NOW)
    assert told.text == "s: 40% of 100 lists were made by a fallback in the last day"
    [told] = attention.of_shelf(shelf(refresh=refresh), NOW)
    assert told.text == "s: the newest refresh was refused: it lost"
    assert attention.of_shelf(shelf(next_refresh_at=NOW - timedelta(minutes=5)), NOW) == []
    [told] = attention.of_shelf(shelf(next_refresh_at=NOW - timedelta(hours=1)), NOW)
    assert told.text == "s: a refresh was due at 2026-05-04 11:00 UTC and has not begun"


def test_drift_is_told_where_chance_does_not_explain_it():
    data = ServedData(data="d", version="d@1", events=500, last_at=NOW, popularity_drift=0.3, drift_by_chance=0.2)
    [told] = attention.of_data(data)
    assert told.text == (
        "d: the popularity of items in 500 events is 0.30 from that of d@1, where chance alone would show 0.20"
    )
    assert attention.of_data(data.model_copy(update={"popularity_drift": 0.24})) == []
    assert attention.of_data(data.model_copy(update={"events": 50})) == []
