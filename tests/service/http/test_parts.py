"""Parts of the service by themselves, and the service when keys are needed."""

from __future__ import annotations

import asyncio
import threading

import httpx
import psycopg
import pytest
from sqlalchemy import create_engine

from gleaner.client import Client, calls
from gleaner.jobs.models.model_cache import _RecentlyUsed
from gleaner.launch import supervisor
from gleaner.launch.postgres import OUTSIDE, Cluster, PostgresError
from gleaner.launch.supervisor import Supervisor
from gleaner.service.http.app import create_app
from gleaner.service.http.describe import description
from gleaner.service.jobs.job_events import JobEvents
from gleaner.service.shelves.list_log import ListLog
from gleaner.settings import Settings
from gleaner.store import served_lists
from gleaner.store.served_lists import ServedRow
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.shelves.publishing import PublishRequest
from stack import wait_for

SHELF = (
    "shelf: swapped\ntitle: {0}\ncandidates: [{{model: first-look.{0}}}]\nfallback: [{{model: first-look.popular}}]\n"
)


@pytest.mark.parametrize("settings", [{"auth": "required"}, {"host": "0.0.0.0"}])  # noqa: S104
async def test_with_keys_needed_nothing_but_health_answers_without_one(tmp_path, settings):
    app = create_app(Settings(home=tmp_path, database_url="postgresql://nobody@127.0.0.1:1/none", **settings))
    paths = description()["paths"] | {"/openapi.json": {"get": {}}}
    answers = {}
    transport = httpx.ASGITransport(app, raise_app_exceptions=False)
    async with httpx.AsyncClient(transport=transport, base_url="http://127.0.0.1") as client:
        for path, methods in paths.items():
            for method in methods:
                filled = path.replace("{number}", "1").replace("{job}", "1")
                answers[f"{method} {path}"] = (await client.request(method, filled, json={})).status_code
    opened = {call for call, status in answers.items() if status != 401}
    # whoever signs in brings a key, which is looked at then
    assert opened == {"get /healthz", "get /readyz", "post /v1/session"}
    assert answers["post /v1/session"] == 503
    assert answers["get /healthz"] == 200
    # ready means that the database answers, and here it does not
    assert answers["get /readyz"] == 503
    app.state.service.close()


def test_recent_values_are_loaded_once_and_the_oldest_goes():
    recent, loads = _RecentlyUsed(max_bytes=25), []

    def get(key):
        def load():
            loads.append(key)
            return key.upper()

        return recent.get(key, load, lambda: 10)

    assert [get(key) for key in ("a", "b", "a", "c", "a", "b")] == ["A", "B", "A", "C", "A", "B"]
    assert loads == ["a", "b", "c", "b"]
    # one that is larger than everything stays for as long as it is the last
    assert recent.get("large", lambda: "L", lambda: 1000) == "L"
    assert recent.get("large", lambda: "again", lambda: 1000) == "L"
    assert get("b") == "B"
    assert recent.get("large", lambda: "again", lambda: 1000) == "again"


def entry(number: int) -> ServedRow:
    return ServedRow(
        list_id=f"t-{number}", shelf="s", version=1, user=None, at="2026-01-01T00:00:00Z", items=["a"], fallback=None
    )


def test_the_list_log_writes_what_it_was_given(stack):
    engine = create_engine(stack.database_url.replace("postgresql://", "postgresql+psycopg://"))
    log = ListLog(engine)
    for number in range(1200):
        log.add(entry(number))
    log.flush()
    assert stack.sql("SELECT count(*) FROM served_lists WHERE list_id LIKE 't-%%'") == [(1200,)]
    log.close()
    engine.dispose()


def test_the_list_log_writes_again_what_was_broken_off(stack, monkeypatch):
    engine = create_engine(stack.database_url.replace("postgresql://", "postgresql+psycopg://"))
    whole, broken = served_lists.add_all, [psycopg.OperationalError("the server went away")]

    def at_times(connection, entries):
        whole(connection, entries[:1])
        if broken:
            raise broken.pop()
        whole(connection, entries[1:])

    monkeypatch.setattr(served_lists, "add_all", at_times)
    log = ListLog(engine)
    for number in range(2000, 2003):
        log.add(entry(number))
    log.flush()
    assert stack.sql("SELECT count(*) FROM served_lists WHERE list_id LIKE 't-200_'") == [(3,)]
    assert log.dropped == 0
    log.close()
    engine.dispose()


def test_a_list_that_cannot_be_logged_takes_no_other_with_it(stack):
    """Ids of a model from elsewhere may hold what the database cannot keep."""
    engine = create_engine(stack.database_url.replace("postgresql://", "postgresql+psycopg://"))
    log = ListLog(engine)
    for number in range(3000, 3100):
        item = {3010: "a\0b", 3020: "half \ud800"}.get(number, "a")
        log.add(entry(number)._replace(items=[item]))
    log.flush()
    assert stack.sql("SELECT count(*) FROM served_lists WHERE list_id LIKE 't-30__'") == [(98,)]
    log.add(entry(3200))
    log.flush()
    assert stack.sql("SELECT count(*) FROM served_lists WHERE list_id = 't-3200'") == [(1,)]
    assert log.dropped == 2
    log.close()
    engine.dispose()


class FailingCluster:
    """A cluster whose server has ended, and does not start again at once."""

    def __init__(self, failures: int) -> None:
        self.failures, self.tries, self.alive = failures, 0, False

    def is_alive(self) -> bool:
        return self.alive

    def start_again(self) -> None:
        self.tries += 1
        if self.tries <= self.failures:
            raise PostgresError("PostgreSQL stopped while starting: no space left on device")
        self.alive = True


def test_postgresql_that_does_not_start_again_is_tried_later(tmp_path, monkeypatch):
    now = [0.0]
    monkeypatch.setattr(supervisor.time, "monotonic", lambda: now[0])
    cluster = FailingCluster(failures=3)
    watcher = Supervisor(Settings(home=tmp_path), cluster=cluster)
    with (tmp_path / "log").open("ab") as log:
        watcher._log = log
        tried = []
        for second in range(12):
            now[0] = float(second)
            watcher.watch()
            tried.append(cluster.tries)
    # after 1, 2 and 4 seconds
    assert tried == [1, 2, 2, 3, 3, 3, 3, 4, 4, 4, 4, 4]
    text = (tmp_path / "log").read_text()
    assert text.count("could not be started again: PostgreSQL stopped while starting: no space left") == 3
    assert "is there again after 3 failures" in text


def test_followers_of_a_job_are_woken_and_forgotten():
    async def go():
        events = JobEvents()
        events.bind(asyncio.get_running_loop())
        mine, other = events.follow(1), events.follow(2)
        threading.Thread(target=events.fire_threadsafe, args=(1,)).start()
        await asyncio.wait_for(mine.wait(), 5)
        await events.changed(mine)
        assert (mine.is_set(), other.is_set()) == (False, False)
        events.leave(1, mine)
        events.leave(2, other)
        assert not events._followers

    asyncio.run(go())


def test_a_shelf_is_swapped_whole_under_load(demo):
    """While versions with other models are published, every answer is of one version and its own model."""
    families = {"als": "first-look.als@1", "item_knn": "first-look.item_knn@1"}
    demo.client.send(calls.publish_shelf(FileRequest(file=SHELF.format("als"))))
    seen: list[tuple[int, str, str]] = []
    ending = threading.Event()

    def ask() -> None:
        with Client(demo.url) as client:
            while not ending.is_set():
                answer = client.send(calls.recommend("swapped", user="g-0417", n=5))
                seen.append((answer.version, answer.model, answer.list[0].source))

    askers = [threading.Thread(target=ask) for _ in range(4)]
    for asker in askers:
        asker.start()
    families_by_version = {1: families["als"]}
    for number in range(2, 8):
        family = ("als", "item_knn")[number % 2]
        request = PublishRequest(file=SHELF.format(family), update_models=True)
        version = demo.client.send(calls.publish_shelf(request))
        families_by_version[version.number] = families[family]
        wait_for(lambda number=version.number: any(version == number for version, _, _ in seen[-50:]))
    ending.set()
    for asker in askers:
        asker.join()
    assert {2, 3, 4, 5, 6, 7} <= {version for version, _, _ in seen} <= set(families_by_version)
    assert all(families_by_version[version] == model == source for version, model, source in seen)


def test_the_cluster_stands_where_its_user_can_reach_it(tmp_path):
    closed = tmp_path / "closed"
    closed.mkdir(mode=0o700)
    assert Cluster(closed).data.is_relative_to(OUTSIDE)
    assert Cluster(closed).data != Cluster(tmp_path / "other").data


@pytest.mark.parametrize(
    ("host", "url"),
    [("127.0.0.1", "http://127.0.0.1:1"), ("0.0.0.0", "http://127.0.0.1:1"), ("::1", "http://[::1]:1")],  # noqa: S104
)
def test_the_address_is_one_to_open(host, url):
    assert Supervisor(Settings(host=host, port=1)).url == url


def test_settings_that_do_not_exist_are_refused():
    with pytest.raises(ValueError, match="Extra inputs are not permitted"):
        Settings(prot=1)


def test_a_quantile_is_read_off_a_histogram():
    from gleaner.service.http.service_metrics import quantile

    buckets = [(0.001, 0.0), (0.002, 50.0), (0.004, 90.0), (float("inf"), 100.0)]
    assert quantile(buckets, 0.25) == pytest.approx(0.0015)
    assert quantile(buckets, 0.7) == pytest.approx(0.003)
    assert quantile(buckets, 0.99) == 0.004
