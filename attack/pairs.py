"""Every pair of jobs on one dataset at once: rows that were taken stay, who was forgotten stays away, and a job that gives
way says so in words."""

from __future__ import annotations

import itertools
import random
import time
from collections.abc import Callable
from typing import Any

import httpx

from attack.outcome import Outcome
from attack.target import Target

NAME = "pairs"
BROKEN = ("internal", "process-died", "storage")
WAIT_S = 120.0
SHELF = (
    f"shelf: {NAME}\ncandidates: [{{model: {NAME}.popular}}]\nfallback: [{{model: {NAME}.popular}}]\nrefresh: {{}}\n"
)
CONTEST = (
    f"contest: {NAME}\ndata: {NAME}\nsplit: {{by: random, test: 0.3}}\n"
    "rank: {at: [3], metrics: [ndcg], decide_by: ndcg@3}\ncontenders: [popular]\n"
)


class World:
    """A dataset that jobs work on, and what was acknowledged of it."""

    def __init__(self, http: httpx.Client, outcome: Outcome) -> None:
        self.http, self.outcome = http, outcome
        self.numbers = itertools.count()
        self.taken: set[str] = set()
        self.forgotten: set[str] = set()
        rows = "".join(f"p{n % 900},i{(n * n) % 23},2026-01-{1 + n % 28:02d}T00:00:00Z\n" for n in range(3000))
        self.wait(self._import(rows, None))
        training = {"data": NAME, "family": "popular", "name": f"{NAME}.popular"}
        self.wait(self.post("/v1/models", training)["id"])
        self.post("/v1/shelves", {"file": SHELF})

    def post(self, path: str, body: dict[str, Any]) -> dict[str, Any]:
        """Answer of a call that must be taken, or refused in words: then an empty one."""
        answer = self.http.post(path, json=body)
        if answer.status_code >= 500:
            self.outcome.report_progress(f"{path} {answer.status_code}", f"POST {path}: {answer.text[:300]}")
        return answer.json() if answer.is_success else {}

    def _import(self, rows: str, onto: int | None) -> int | None:
        sent = self.http.post("/v1/uploads", params={"file": "rows.csv"}, content=("user,item,time\n" + rows).encode())
        source = {"upload": sent.json()["upload"], "file": "rows.csv"}
        request = {"interactions": source, "roles": {"user": "user", "item": "item", "time": "time"}}
        return self.post(f"/v1/datasets/{NAME}/versions", request | ({} if onto is None else {"onto": onto})).get("id")

    def newest(self) -> int:
        """Number of the newest version."""
        return int(self.http.get(f"/v1/datasets/{NAME}").json()["versions"][0]["number"])

    def wait(self, job: int | None) -> bool:
        """Wait for a job; whether it was done. One that fails must say why in words."""
        end = time.monotonic() + WAIT_S
        while job is not None and time.monotonic() < end:
            told = self.http.get(f"/v1/jobs/{job}").json()
            if told["state"] == "done":
                return True
            if told["state"] in ("failed", "cancelled"):
                problem = told.get("problem") or {}
                if problem.get("type", "").rpartition(":")[2] in BROKEN:
                    self.outcome.report_progress(f"{told['kind']} broke", f"job {job}, {told['kind']}: {problem}")
                return False
            time.sleep(0.05)
        if job is not None:
            self.outcome.report_progress("stuck", f"job {job} has not ended after {WAIT_S:.0f} s")
        return False

    def bring(self) -> tuple[int | None, Callable[[], object]]:
        """Rows onto the newest version."""
        user = f"taken-{next(self.numbers)}"
        return self._import(f"{user},i1,2026-02-01T00:00:00Z\n", self.newest()), lambda: self.taken.add(user)

    def gather(self) -> tuple[int | None, Callable[[], object]]:
        """An event, and the version with it."""
        user = f"event-{next(self.numbers)}"
        event = {"data": NAME, "user": user, "item": "i2"}
        if self.http.post("/v1/events", json=event).status_code == 200:
            self.taken.add(user)
        return self.post(f"/v1/datasets/{NAME}/gatherings", {}).get("id"), lambda: None

    def forget(self) -> tuple[int | None, Callable[[], object]]:
        """Somebody who has rows in the newest version and events that none has."""
        # nobody twice: whoever comes back after they were forgotten is somebody new
        user = f"p{next(self.numbers)}"
        self.http.post("/v1/events", json={"data": NAME, "user": user, "item": "i3"})
        job = self.post(f"/v1/datasets/{NAME}/forget", {"user": user}).get("id")
        return job, lambda: self.forgotten.add(user)

    def train(self) -> tuple[int | None, Callable[[], object]]:
        """A model."""
        body = {"data": NAME, "family": "popular", "name": f"{NAME}.popular"}
        return self.post("/v1/models", body).get("id"), lambda: None

    def compare(self) -> tuple[int | None, Callable[[], object]]:
        """A contest."""
        return self.post("/v1/contests", {"file": CONTEST, "name": "pairs.yaml"}).get("job"), lambda: None

    def export(self) -> tuple[int | None, Callable[[], object]]:
        """Lists for everybody, as a file."""
        body = {"what": "top-items", "model": f"{NAME}.popular", "n": 2}
        return self.post("/v1/exports", body).get("id"), lambda: None

    def refresh(self) -> tuple[int | None, Callable[[], object]]:
        """The shelf's refresh."""
        return self.post(f"/v1/shelves/{NAME}/refresh", {}).get("id"), lambda: None

    def remove(self) -> tuple[int | None, Callable[[], object]]:
        """A version that is not the newest; no job, but it goes beside them."""
        versions = self.http.get(f"/v1/datasets/{NAME}").json()["versions"]
        if len(versions) > 4:
            number = versions[-1]["number"]
            answer = self.http.delete(f"/v1/datasets/{NAME}/versions/{number}", params={"force": "true"})
            if answer.status_code >= 500:
                self.outcome.report_progress("remove", f"removing {number}: {answer.text[:300]}")
        return None, lambda: None

    def look(self) -> None:
        """What was taken is in the newest version; who was forgotten is in none."""
        self.wait(self.post(f"/v1/datasets/{NAME}/gatherings", {}).get("id"))
        for version in self.http.get(f"/v1/datasets/{NAME}").json()["versions"]:
            number = version["number"]
            body = {"sql": "SELECT DISTINCT user FROM interactions", "limit": 10_000}
            rows = self.http.post(f"/v1/datasets/{NAME}/versions/{number}/query", json=body).json()["rows"]
            users = {row[0] for row in rows}
            if back := self.forgotten & users:
                self.outcome.report_progress("back", f"{sorted(back)[:5]} were forgotten, and are in {NAME}@{number}")
            if number == self.newest() and (lost := self.taken - users):
                self.outcome.report_progress("lost", f"{sorted(lost)[:5]} were taken, and are not in {NAME}@{number}")


def attack(target: Target, seconds: float, seed: int) -> Outcome:
    """Run pairs for so long, every pair once if there is time, then look for all that was acknowledged."""
    outcome, drawn, end = Outcome("pairs of jobs at once"), random.Random(seed), time.monotonic() + seconds  # noqa: S311
    with httpx.Client(base_url=target.url, headers=target.headers("admin"), timeout=60) as http:
        world = World(http, outcome)
        kinds = (
            world.bring, world.gather, world.forget, world.train, world.compare, world.export, world.refresh, world.remove,
        )  # fmt: skip
        pairs = list(itertools.combinations_with_replacement(kinds, 2))
        drawn.shuffle(pairs)
        for number in itertools.count():
            if number and time.monotonic() > end:
                break
            first, second = pairs[number % len(pairs)]
            begun = [first(), second()] if drawn.random() < 0.5 else [second(), first()]
            for job, acknowledge in begun:
                is_done = world.wait(job)
                if is_done:
                    acknowledge()
                outcome.count(refused=not is_done)
        world.look()
        outcome.notes.append(
            f"{number} of {len(pairs)} pairs; {len(world.taken)} rows taken, {len(world.forgotten)} users forgotten"
        )
    return outcome
