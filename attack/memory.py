"""A watch over the memory of the serving process while everything else is tried: it stays within a bound, and it is the
same process at the end."""

from __future__ import annotations

import itertools
import threading
from typing import Self

import httpx

from attack.outcome import Outcome
from attack.target import Target, resident_mb

BOUND_MB = 1200.0
"""Of one serving process with the demo's data, whatever is asked of it."""

EVERY_S = 0.5
USERS = 1500


class Watch:
    """Looks at the serving process while it is entered, and keeps a light load of lists and events on it."""

    def __init__(self, target: Target) -> None:
        self.target = target
        self.outcome = Outcome(f"memory of the service, MB, at most {BOUND_MB:,.0f}")
        self._ending = threading.Event()
        self._threads = [threading.Thread(target=each, daemon=True) for each in (self._look, self._load)]
        self.highest = self.first = 0.0

    def __enter__(self) -> Self:
        self.pid = self.target.processes()["web service"]
        self.first = resident_mb(self.pid)
        for each in self._threads:
            each.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._ending.set()
        for each in self._threads:
            each.join()
        now = self.target.processes().get("web service")
        if now != self.pid:
            self.outcome.report_progress(
                "died", f"the serving process {self.pid} died under what was sent; now it is {now}"
            )
        if self.highest > BOUND_MB:
            self.outcome.report_progress("memory", f"{self.highest:,.0f} MB were in use, above {BOUND_MB:,.0f}")
        self.outcome.notes.append(f"{self.first:,.0f} MB at first, {self.highest:,.0f} at most")

    def _look(self) -> None:
        while not self._ending.wait(EVERY_S):
            self.highest = max(self.highest, resident_mb(self.pid))
            self.outcome.count()

    def _load(self) -> None:
        """A list and an event, again and again: what is meant to go on whatever else is sent."""
        with httpx.Client(base_url=self.target.url, timeout=30) as http:
            for turn in itertools.count():
                if self._ending.wait(0.02):
                    return
                user = f"g-{turn % USERS:04}"
                shelf = "/v1/shelves/for-growers/recommendations"
                event = {"data": "seeds", "user": user, "item": "v-0010", "kind": "view"}
                for answer in (
                    http.get(shelf, params={"user": user, "n": 10}, headers=self.target.headers("serve")),
                    http.post("/v1/events", json=event, headers=self.target.headers("events")),
                ):
                    if answer.status_code != 200:
                        self.outcome.report_progress(f"load {answer.status_code}", f"under load: {answer.text[:300]}")
