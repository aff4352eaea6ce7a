"""Kills under load: every kind of process, at any moment, while events are told, shelves published
and jobs asked for. Whatever was acknowledged is looked for afterwards."""

from __future__ import annotations

import random
import threading
import time
from base64 import urlsafe_b64encode
from collections import Counter
from itertools import count
from typing import Any

import httpx

from attack.outcome import Outcome
from attack.target import Target

WEIGHTS = {"web service": 4, "worker": 3, "database": 3, "supervisor": 1, "fork server": 1}
TELLERS = 3
PAUSE_S = 0.02
SETTLED_S = 120.0
SHELF = "shelf: killed-{n}\ncandidates: [{{model: first-look.als}}]\nfallback: [{{model: first-look.popular}}]\ntitle: {text}\n"
JOB = {"data": "seeds@1", "family": "popular", "name": "killed.popular"}


class Load:
    """Writes without end, and keeps what was acknowledged. Whatever is not is told again, under the same name."""

    def __init__(self, target: Target, lists: Outcome) -> None:
        self.target, self.lists = target, lists
        self.events: dict[str, list[str]] = {}
        self.published: dict[str, int] = {}
        self.jobs: list[int] = []
        self.ending = threading.Event()
        works = [lambda n=n: self._tell(n) for n in range(TELLERS)] + [self._publish, self._work]
        self._threads = [threading.Thread(target=each, daemon=True) for each in works]

    def start(self) -> None:
        """Begin."""
        for each in self._threads:
            each.start()

    def stop(self) -> None:
        """End, and wait for the last answer."""
        self.ending.set()
        for each in self._threads:
            each.join()

    @property
    def acknowledged(self) -> int:
        """Writes that were acknowledged."""
        return sum(map(len, self.events.values())) + len(self.published) + len(self.jobs)

    def _http(self, scope: str) -> httpx.Client:
        return httpx.Client(base_url=self.target.url, headers=self.target.headers(scope), timeout=20)

    def _until_taken(self, http: httpx.Client, path: str, body: dict[str, Any], key: str) -> httpx.Response | None:
        while not self.ending.is_set():
            try:
                answer = http.post(path, json=body, headers={"Idempotency-Key": key})
            except httpx.HTTPError:
                time.sleep(PAUSE_S)
                continue
            if answer.status_code < 300:
                return answer
            if answer.status_code != 503:
                self.lists.report_progress(
                    f"{path} {answer.status_code}", f"POST {path}: {answer.status_code} {answer.text[:300]}"
                )
            time.sleep(PAUSE_S)
        return None

    def _tell(self, number: int) -> None:
        """An event, then a list: nothing that was told of is listed."""
        user = f"killed-{number}"
        kept = self.events[user] = []
        with self._http("events") as http, self._http("serve") as asking:
            for turn in count():
                if self.ending.is_set():
                    return
                item = f"v-{turn % 800:04}"
                event = {"data": "seeds", "id": f"{user}-{turn}", "user": user, "item": item, "kind": "view"}
                if self._until_taken(http, "/v1/events", event, f"{user}-{turn}") is None:
                    return
                kept.append(f"{user}-{turn}")
                self._ask(asking, user, item)

    def _ask(self, http: httpx.Client, user: str, item: str) -> None:
        try:
            answer = http.get("/v1/shelves/for-growers/recommendations", params={"user": user, "n": 300})
        except httpx.HTTPError:
            return
        if answer.status_code == 503:
            return
        if answer.status_code != 200:
            self.lists.report_progress(
                f"list {answer.status_code}", f"a list: {answer.status_code} {answer.text[:300]}"
            )
            return
        listed = [place["item"] for place in answer.json()["list"]]
        if item in listed or len(set(listed)) < len(listed):
            self.lists.report_progress("wrong list", f"{user}: {item} was told of, and is listed: {listed[:20]}")
        else:
            self.lists.count()

    def _publish(self) -> None:
        with self._http("build") as http:
            for turn in count():
                file = SHELF.format(n=turn % 3, text=f"turn {turn}")
                answer = self._until_taken(http, "/v1/shelves", {"file": file}, f"publish-{turn}")
                if answer is None:
                    return
                self.published[f"turn {turn}"] = answer.json()["number"]
                self.ending.wait(0.5)

    def _work(self) -> None:
        with self._http("build") as http:
            for turn in count():
                answer = self._until_taken(http, "/v1/models", dict(JOB), f"train-{turn}")
                if answer is None:
                    return
                self.jobs.append(answer.json()["id"])
                self.ending.wait(2.0)


def attack(target: Target, seconds: float, seed: int) -> list[Outcome]:
    """Kill for so long, then look for everything that was acknowledged."""
    kills, lists = Outcome("kills under load"), Outcome("lists while processes were killed")
    drawn, done = random.Random(seed), Counter[str]()  # noqa: S311
    load, end = Load(target, lists), time.monotonic() + seconds
    load.start()
    while not kills.tried or time.monotonic() < end:
        time.sleep(drawn.uniform(0.0, 0.6))
        name = drawn.choices(list(WEIGHTS), list(WEIGHTS.values()))[0]
        target.kill(name)
        try:
            target.wait_ready()
        except RuntimeError as error:
            kills.report_progress("not back", f"after the {name} was killed: {error}")
            break
        kills.count()
        done[name] += 1
    # on a busy machine there may be nothing yet to look for
    end = time.monotonic() + SETTLED_S
    while not (load.acknowledged and lists.tried) and time.monotonic() < end:
        time.sleep(PAUSE_S)
    load.stop()
    kills.notes.append(", ".join(f"{name} {n}" for name, n in sorted(done.items())))
    kept = Outcome("acknowledged writes looked for afterwards")
    try:
        _look(target, load, kept)
    except httpx.HTTPError as error:
        kept.report_progress("no answer", f"nothing answers after the kills: {error}; {target.last_words()}")
    kept.notes.append(
        f"{sum(map(len, load.events.values())):,} events, {len(load.published):,} shelves published, {len(load.jobs):,} jobs"
    )
    return [kills, lists, kept]


def _look(target: Target, load: Load, kept: Outcome) -> None:
    with httpx.Client(base_url=target.url, headers=target.headers("build"), timeout=60) as http:
        for user, events in load.events.items():
            _look_for("event", set(events), _events_of(http, user), kept)
        versions = {v["title"]: v["number"] for n in range(3) for v in _versions(http, f"killed-{n}")}
        for title, number in load.published.items():
            _look_for("shelf", {f"{title} as {number}"}, {f"{title} as {versions.get(title)}"}, kept)
        end = time.monotonic() + SETTLED_S
        waiting = set(load.jobs)
        while waiting and time.monotonic() < end:
            for number in sorted(waiting):
                job = http.get(f"/v1/jobs/{number}").json()
                if job.get("state") == "done":
                    waiting.discard(number)
                    kept.count()
                elif job.get("state") in ("failed", "cancelled"):
                    # a worker that is killed again and again gives a job up in words after some attempts
                    waiting.discard(number)
                    problem = job.get("problem") or {}
                    if "attempts" in problem.get("detail", "") or "lost" in problem.get("detail", ""):
                        kept.count(refused=True)
                    else:
                        kept.report_progress("job", f"job {number} ended as {job['state']}: {problem}")
            time.sleep(0.2)
        for number in waiting:
            kept.report_progress("job", f"job {number} is {http.get(f'/v1/jobs/{number}').json().get('state')} still")


def _look_for(what: str, wanted: set[str], there: set[str], kept: Outcome) -> None:
    for each in sorted(wanted):
        if each in there:
            kept.count()
        else:
            kept.report_progress(what, f"the {what} {each} was acknowledged, and is gone")


def _events_of(http: httpx.Client, user: str) -> set[str]:
    """Ids of every event of a user."""
    result: set[str] = set()
    after = None
    while True:
        request: dict[str, Any] = {"data": "seeds", "user": user, "limit": 500} | (
            {} if after is None else {"after": after}
        )
        page = http.get("/v1/events", params=request).json()
        fresh = {each["id"] for each in page["items"]} - result
        if not fresh and after is not None:
            return result
        result |= fresh
        after = page["next"] if after is not None else _beginning()


def _beginning() -> str:
    """The cursor before the first event."""
    return urlsafe_b64encode(b"0").decode().rstrip("=")


def _versions(http: httpx.Client, shelf: str) -> list[dict[str, Any]]:
    answer = http.get(f"/v1/shelves/{shelf}/versions")
    if answer.status_code != 200:
        return []
    return [{"number": v["number"], "title": v["spec"]["title"]} for v in answer.json()["versions"]]
