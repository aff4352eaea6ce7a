"""Every process is killed while events come in and lists go out: nothing acknowledged is lost, no list is wrong; and a
second serving process hears of everything."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
from itertools import count

import httpx
import pytest

from gleaner.client import Client, event_calls, shelf_calls
from gleaner.launch.ports import free_port
from gleaner.launch.supervisor import READY_WAIT_S
from gleaner.service.http.run import WARM_S
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.events import Change, Event
from stack import Stack, wait_for

PAUSE_S = 0.02


class Grower(threading.Thread):
    """Tells of one event after another and asks for a list after each; tells again whatever was not acknowledged."""

    def __init__(self, url: str, user: str, catalogue: list[str]) -> None:
        super().__init__(daemon=True)
        self.url, self.user, self.catalogue = url, user, catalogue
        self.acknowledged: list[str] = []
        self.lists, self.wrong = 0, list[str]()
        self.refused: list[int] = []
        self.unanswered_lists = 0
        self.lists_without_database = 0
        self.ending = threading.Event()

    def run(self) -> None:
        with httpx.Client(base_url=self.url, timeout=20) as http:
            for place in count():
                if self.ending.is_set() or place == len(self.catalogue):
                    return
                self._send_event(http, f"{self.user}-{place}", self.catalogue[place])
                self._ask(http)

    def _send_event(self, http: httpx.Client, name: str, item: str) -> None:
        event = {"data": "seeds", "id": name, "user": self.user, "item": item, "kind": "view"}
        while not self.ending.is_set():
            try:
                answer = http.post("/v1/events", json=event)
            except httpx.HTTPError:
                time.sleep(PAUSE_S)
                continue
            if answer.status_code == 200:
                self.acknowledged.append(item)
                return
            self.refused.append(answer.status_code)
            assert answer.headers.get("retry-after"), answer.text
            if self._ask(http):
                self.lists_without_database += 1
            time.sleep(PAUSE_S)

    def _ask(self, http: httpx.Client) -> bool:
        try:
            answer = http.get("/v1/shelves/under-load/recommendations", params={"user": self.user, "n": 1000})
        except httpx.HTTPError:
            self.unanswered_lists += 1
            return False
        if answer.status_code != 200:
            self.wrong.append(f"status {answer.status_code}: {answer.text}")
            return False
        listed = [place["item"] for place in answer.json()["list"]]
        self.lists += 1
        self.wrong += [item for item in self.acknowledged if item in listed]
        if len(listed) < 100 or len(set(listed)) < len(listed):
            self.wrong.append(f"a list of {len(listed)}, {len(set(listed))} different")
        return True


def kill_database(stack: Stack) -> None:
    assert stack.supervisor.cluster is not None
    process = stack.supervisor.cluster.process
    assert process is not None
    process.send_signal(signal.SIGKILL)
    process.wait()


SHELF = """\
shelf: under-load
candidates: [{model: first-look.als}]
fallback: [{model: first-look.popular}]
"""


@pytest.fixture
def growers(demo):
    demo.client.send(shelf_calls.publish_shelf(FileRequest(file=SHELF)))
    catalogue = [p.item for p in demo.client.send(shelf_calls.recommend("under-load", n=600)).list]
    started = [Grower(demo.url, f"load-{n}", catalogue[:400]) for n in range(3)]
    for each in started:
        each.start()
    yield started
    for each in started:
        each.ending.set()
        each.join()


def acknowledged(growers: list[Grower]) -> int:
    return sum(len(each.acknowledged) for each in growers)


def go_on(growers: list[Grower], more: int) -> None:
    """Wait until each has had some more events acknowledged."""
    before = [len(each.acknowledged) for each in growers]
    wait_for(lambda: all(len(each.acknowledged) >= n + more for each, n in zip(growers, before, strict=True)), 60)


def test_nothing_acknowledged_is_lost_and_no_list_is_wrong_whatever_is_killed(demo, growers):
    go_on(growers, 10)
    for name in ("worker", "web service"):
        demo.kill(name)
        go_on(growers, 15)
    # lists come from memory while the database is away: no call for one goes unanswered
    unanswered = [each.unanswered_lists for each in growers]
    kill_database(demo)
    go_on(growers, 15)
    assert [each.unanswered_lists for each in growers] == unanswered
    assert set().union(*(each.refused for each in growers)) == {503}
    assert sum(each.lists_without_database for each in growers) > 0
    for each in growers:
        each.ending.set()
        each.join()
    for each in growers:
        assert each.wrong == []
        assert each.lists >= 50
        rows = demo.sql("SELECT id, item_id FROM events WHERE user_id = %s ORDER BY seq", each.user)
        kept = [item for _, item in rows]
        # the last one told may have been kept without its answer having arrived
        assert kept[: len(each.acknowledged)] == each.acknowledged
        assert len(kept) <= len(each.acknowledged) + 1
        answer = demo.client.send(shelf_calls.recommend("under-load", user=each.user, n=1000))
        assert not set(kept) & {place.item for place in answer.list}


@pytest.fixture
def second(demo):
    """Another serving process on the same database and files."""
    port = free_port()
    settings = demo.supervisor._environment() | {"GLEANER_PORT": str(port)}
    with (demo.home / "second.log").open("ab") as log:
        process = subprocess.Popen([sys.executable, "-m", "gleaner.service"], env=os.environ | settings, stderr=log)
        try:
            with Client(f"http://127.0.0.1:{port}") as client:
                # by itself it imports everything, about ten seconds of the processor, and then loads shelves for WARM_S
                wait_for(lambda: process.poll() is not None or _is_up(client), READY_WAIT_S + 3 * WARM_S)
                assert process.poll() is None
                yield client
        finally:
            process.terminate()
            assert process.wait(timeout=20) in (0, -signal.SIGTERM)


def _is_up(client: Client) -> bool:
    from gleaner.client import NoAnswerError, calls

    try:
        return bool(client.send(calls.version()))
    except NoAnswerError:
        return False


def test_what_one_serving_process_is_told_another_serves_by(demo, second):
    def there(n: int = 1000, user: str = "second-1") -> list[str]:
        return [p.item for p in second.send(shelf_calls.recommend("for-growers", user=user, n=n)).list]

    def stock_there() -> list[str]:
        return [p.item for p in second.send(shelf_calls.recommend("second-stock", n=1000)).list]

    text = SHELF.replace("under-load", "second-stock") + "where: stock > 0\n"
    demo.client.send(shelf_calls.publish_shelf(FileRequest(file=text)))
    first, other = there(2)
    assert first in stock_there()
    demo.client.send(event_calls.send_events("seeds", [Event(user="second-1", item=first, kind="save")]))
    wait_for(lambda: first not in there())
    # and the other way
    second.send(event_calls.send_events("seeds", [Event(user="second-1", item=other, kind="save")]))
    wait_for(lambda: other not in [p.item for p in demo.client.send(
        shelf_calls.recommend("for-growers", user="second-1", n=1000)).list])  # fmt: skip
    from gleaner.client import calls

    [[stock]] = demo.client.send(calls.query("seeds", 1, f"SELECT stock FROM items WHERE id = '{first}'")).rows
    try:
        demo.client.send(event_calls.change_items("seeds", [Change(id=first, columns={"stock": 0})]))
        wait_for(lambda: first not in stock_there())
    finally:
        demo.client.send(event_calls.change_items("seeds", [Change(id=first, columns={"stock": stock})]))
    wait_for(lambda: first in stock_there())
    # what came while nothing was heard is taken in when the connection is back
    kill_database(demo)
    third = there(1)[0]
    wait_for(lambda: _has_event(demo, third))
    wait_for(lambda: third not in there())


def _has_event(demo: Stack, item: str) -> bool:
    from gleaner.client import ServiceFailedError

    try:
        return bool(demo.client.send(event_calls.send_event("seeds", "second-1", item, "save")))
    except ServiceFailedError:
        return False
