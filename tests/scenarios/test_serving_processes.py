"""Several serving processes on one socket: they share the memory of models, count together, and one may go at any time."""

from __future__ import annotations

import json
import os
import re
import signal
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from demo_state import demo_home
from gleaner.client import calls
from gleaner.service.http.app import listeners_of
from gleaner.service.http.state import Service
from gleaner.wire.contests.contest import FileRequest, PrepareSpec
from gleaner.wire.imports import Roles
from gleaner.wire.models.training import TrainRequest
from stack import Stack, wait_for

NAMES = ("web service", "web service 2")
PREPARE = PrepareSpec(kinds={"view": 1, "save": 3, "request": 5})
LISTS = "/v1/shelves/for-growers/recommendations"


@pytest.fixture(scope="module")
def two() -> Iterator[Stack]:
    stack = Stack(home=demo_home(), serving=2)
    yield stack
    stack.stop()


def ask(stack: Stack, n: int = 1) -> None:
    """Each over a connection of its own, so that either process may take it."""
    for _ in range(n):
        assert httpx.get(f"{stack.url}{LISTS}?user=g-0417").status_code == 200


def counted(stack: Stack, name: str) -> float:
    text = httpx.get(f"{stack.url}/metrics").text
    return sum(float(result) for result in re.findall(rf"^{name}\S* (\S+)$", text, re.M))


def mapped(stack: Stack, name: str) -> set[str]:
    maps = Path(f"/proc/{stack.process(name).pid}/maps").read_text()
    return set(re.findall(r"/artefacts/\w\w/(\w{64})", maps))


def test_both_have_a_shelf_ready_before_anyone_asks_for_it(two):
    params = {"rank": 4, "iterations": 1}
    request = TrainRequest(data="seeds", family="als", params=params, name="unasked", prepare=PREPARE)
    two.client.wait(two.client.send(calls.train_model(request)).id)
    card = two.client.send(calls.model("unasked"))
    file = "shelf: asked-of-nobody\ncandidates: [{model: unasked}]\nfallback: [{model: first-look.popular}]\n"
    two.client.send(calls.publish_shelf(FileRequest(file=file)))
    wait_for(lambda: all(card.state_sha256 in mapped(two, name) for name in NAMES))
    # one that begins later has it as soon as it answers
    begin_again(two, NAMES[1])
    wait_for(lambda: card.state_sha256 in mapped(two, NAMES[1]))
    # one that cannot be loaded keeps no other from being served
    [file] = (two.home / "artefacts").rglob(card.state_sha256)
    away = file.rename(two.home / "away")
    begin_again(two, NAMES[1])
    wait_for(lambda: "shelf asked-of-nobody cannot be served" in (two.home / "gleaner.log").read_text())
    als = two.client.send(calls.model("first-look.als"))
    wait_for(lambda: als.state_sha256 in mapped(two, NAMES[1]))
    away.rename(file)


def begin_again(stack: Stack, name: str) -> None:
    """Stop a process and wait for the one that takes its place."""
    old = stack.process(name)
    old.send_signal(signal.SIGTERM)
    assert old.wait(timeout=20) in (0, -signal.SIGTERM)
    wait_for(lambda: stack.process(name).pid != old.pid)


def test_all_come_back_when_what_they_are_forked_from_is_killed(two):
    old = {name: two.process(name).pid for name in (*NAMES, "worker")}
    os.kill(two.supervisor.forker.server, signal.SIGKILL)
    for name, pid in old.items():
        wait_for(lambda name=name, pid=pid: two.process(name).pid != pid)
    wait_for(lambda: two.http.get("/readyz").status_code == 200)
    ask(two, 4)
    assert two.add("after-all", "user,item\nu,a\n", Roles(user="user", item="item")).rows == 1


def test_what_comes_between_loading_and_listening_is_not_missed(two):
    service = Service.open(two.supervisor.settings)
    shelf = service.shelves.get("for-growers")
    rows = service.live.rows(shelf.dataset_id)
    assert not rows.of("g-0417")
    event = {"data": "seeds", "id": "between", "user": "g-0417", "item": "v-0007", "kind": "view"}
    assert two.http.post("/v1/events", json=event).status_code == 200
    changes = {"changes": [{"id": "v-0007", "columns": {"stock": 0}}]}
    assert two.http.post("/v1/datasets/seeds/items/changes", json=changes).status_code == 200
    listeners = listeners_of(service)
    for each in listeners:
        each.start()
    try:
        wait_for(lambda: [row.item for row in rows.of("g-0417")] == ["v-0007"])
        wait_for(lambda: service.shelves.get("for-growers").items.of("v-0007", ["stock"]) == {"stock": 0})
    finally:
        for each in listeners:
            each.stop()
        service.close()


def test_both_answer_share_model_files_and_count_together(two):
    before = counted(two, "gleaner_lists_total")
    ask(two, 40)
    card = two.client.send(calls.model("first-look.als"))
    for name in NAMES:
        assert card.state_sha256 in mapped(two, name)
    assert counted(two, "gleaner_lists_total") >= before + 40
    text = httpx.get(f"{two.url}/metrics").text
    assert text.count("# EOF") == 1
    for name in ("gleaner_stage_seconds_count", "gleaner_shelf_age_seconds", "gleaner_model_age_seconds"):
        assert f'{name}{{shelf="for-growers"' in text
    assert 'gleaner_lists_total{fallback="none",shelf="for-growers"}' in text


def test_a_process_that_is_told_to_stop_answers_what_it_has_taken(two):
    wrong: list[str] = []
    ending, done = threading.Event(), [0]

    def caller() -> None:
        while not ending.is_set():
            try:
                answer = httpx.get(f"{two.url}{LISTS}?user=g-0417&n=5", timeout=30)
            except httpx.HTTPError as error:
                wrong.append(repr(error))
                continue
            done[0] += 1
            if answer.status_code != 200 or len(answer.json()["list"]) != 5:
                wrong.append(answer.text)

    threads = [threading.Thread(target=caller) for _ in range(4)]
    for each in threads:
        each.start()
    try:
        for name in ("web service", "web service 2", "web service"):
            before = done[0]
            begin_again(two, name)
            wait_for(lambda before=before: done[0] > before + 50)
    finally:
        ending.set()
        for each in threads:
            each.join()
    assert wrong == []


def test_logs_are_lines_of_json_that_name_the_request(two):
    answer = two.http.post("/v1/shelves", json={"file": "shelf: ["})
    assert answer.status_code == 422
    request = answer.headers["x-request-id"]

    def logged() -> dict | None:
        lines = (two.home / "gleaner.log").read_text().splitlines()
        rows = [json.loads(line) for line in lines if line.startswith("{")]
        return next((row for row in rows if row.get("request_id") == request and row["message"] == "answered"), None)

    row = wait_for(logged)
    assert (row["method"], row["route"], row["status"], row["level"]) == ("POST", "/v1/shelves", 422, "info")
    assert row["milliseconds"] > 0
    assert row["at"].endswith("+00:00")
    # lists that are answered at once are counted, not logged
    before = (two.home / "gleaner.log").stat().st_size
    ask(two, 5)
    time.sleep(0.1)
    assert (two.home / "gleaner.log").stat().st_size == before
