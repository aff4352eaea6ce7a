"""Backups of a running service, put back into a fresh cluster: whatever was acknowledged before is there, and events reach
a version."""

from __future__ import annotations

import itertools
import shutil
import subprocess
import sys
import threading
import time
from pathlib import Path

import httpx

from attack.outcome import Outcome
from attack.target import Target


class Teller:
    """Sends events, imports and removals while a backup is made. acknowledged: users of events, in order."""

    def __init__(self, target: Target, turn: int) -> None:
        self.target, self.turn = target, turn
        self.acknowledged: list[str] = []
        self._ending = threading.Event()
        self._thread = threading.Thread(target=self._tell, daemon=True)

    def __enter__(self) -> Teller:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._ending.set()
        self._thread.join()

    def _tell(self) -> None:
        with httpx.Client(base_url=self.target.url, headers=self.target.headers("admin"), timeout=60) as http:
            for number in itertools.count():
                if self._ending.is_set():
                    return
                user = f"backed-up-{self.turn}-{number}"
                event = {"data": "seeds", "user": user, "item": "v-0010", "kind": "view"}
                if http.post("/v1/events", json=event).status_code == 200:
                    self.acknowledged.append(user)
                # files come and go while they are copied
                training = {"data": "seeds@1", "family": "popular", "name": "passing"}
                if number % 20 == 0:
                    http.post("/v1/models", json=training)
                elif number % 20 == 10:
                    http.delete("/v1/models/passing")


def attack(target: Target, seconds: float, seed: int) -> Outcome:
    """Back up and put back for so long, at least once."""
    outcome, end = Outcome("backups put back elsewhere"), time.monotonic() + seconds
    for turn in itertools.count(seed * 1000):
        folder = target.home / f"backup-{turn}"
        with Teller(target, turn) as teller:
            before = _wait_for_some(teller)
            made = _gleaner("backup", str(folder), "--home", str(target.home))
        if made.returncode:
            outcome.report_progress("backup", f"a backup failed: {made.stderr[-300:]}")
        else:
            _put_back(target, folder, before, outcome)
        shutil.rmtree(folder, ignore_errors=True)
        if time.monotonic() > end:
            return outcome
    raise AssertionError


def _wait_for_some(teller: Teller) -> list[str]:
    """Users whose events were acknowledged before the backup began."""
    end = time.monotonic() + 30
    while len(teller.acknowledged) < 5 and time.monotonic() < end:
        time.sleep(0.01)
    return list(teller.acknowledged)


def _gleaner(*arguments: str) -> subprocess.CompletedProcess[str]:
    command = [str(Path(sys.executable).parent / "gleaner"), *arguments]
    return subprocess.run(command, capture_output=True, text=True, check=False)


def _put_back(target: Target, folder: Path, before: list[str], outcome: Outcome) -> None:
    """Restore into a new state folder, start it, gather, and look for every event."""
    other = Target()
    try:
        done = _gleaner("restore", str(folder), "--home", str(other.home))
        if done.returncode:
            outcome.report_progress("restore", f"a restore failed: {done.stderr[-300:]}")
            return
        other.keys = target.keys
        other.start()
        with httpx.Client(base_url=other.url, headers=other.headers("admin"), timeout=60) as http:
            after = "restored-later"
            http.post("/v1/events", json={"data": "seeds", "user": after, "item": "v-0011", "kind": "view"})
            job = http.post("/v1/datasets/seeds/gatherings", json={}).json()["id"]
            end = time.monotonic() + 120
            while http.get(f"/v1/jobs/{job}").json()["state"] in ("queued", "running") and time.monotonic() < end:
                time.sleep(0.1)
            newest = http.get("/v1/datasets/seeds").json()["versions"][0]["number"]
            body = {"sql": "SELECT DISTINCT user FROM interactions", "limit": 50_000}
            rows = http.post(f"/v1/datasets/seeds/versions/{newest}/query", json=body).json()["rows"]
            users = {row[0] for row in rows}
            for user in [*before, after]:
                if user in users:
                    outcome.count()
                else:
                    outcome.report_progress("lost", f"the event of {user} is in no version after a restore")
    finally:
        other.stop()
