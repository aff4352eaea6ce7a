"""What a machine does to a service: its disk is full, its clock jumps, its schema is migrated by several at once."""

from __future__ import annotations

import itertools
import os
import random
import struct
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import httpx

from attack.outcome import Outcome
from attack.target import Target

DISK_MB = 700
DAY = 86_400
JUMPS = (DAY, -2 * DAY, 0, -3600, 40 * DAY, -DAY)
"""Seconds by which the clock differs from the true one, one after the other."""

ROWS = "user,item,time\n" + "".join(f"d{n % 50},i{n % 31},2026-01-{1 + n % 28:02d}T00:00:00Z\n" for n in range(3000))


def attack(target: Target, seconds: float, seed: int) -> list[Outcome]:
    """A full disk, jumps of the clock, and migrations under load."""
    share = seconds / 3
    return [full_disk(share, seed), clock_jumps(share, seed), migrations(target, share)]


class Caller:
    """Makes calls that may be refused in words, and counts what was acknowledged."""

    def __init__(self, target: Target, outcome: Outcome) -> None:
        self.target, self.outcome = target, outcome
        self.http = httpx.Client(base_url=target.url, headers=target.headers("admin"), timeout=60)
        self.events: set[str] = set()
        self.numbers = itertools.count()

    def event(self) -> bool:
        """Send one; whether it was acknowledged."""
        user = f"outage-{next(self.numbers)}"
        is_taken = self.post("/v1/events", {"data": "small", "user": user, "item": "i1"}) is not None
        if is_taken:
            self.events.add(user)
        return is_taken

    def post(self, path: str, body: dict[str, Any]) -> dict[str, Any] | None:
        """The answer; None where it was refused. An error without words is wrong."""
        try:
            answer = self.http.post(path, json=body)
        except httpx.HTTPError as error:
            self.outcome.report_progress(f"{path} {type(error).__name__}", f"POST {path}: {type(error).__name__}")
            return None
        if answer.status_code >= 500 and answer.status_code != 503:
            self.outcome.report_progress(f"{path} {answer.status_code}", f"POST {path}: {answer.text[:300]}")
            return None
        self.outcome.count(refused=not answer.is_success)
        return answer.json() if answer.is_success else None

    def bring(self) -> None:
        """Make a version of the small dataset."""
        sent = self.http.post("/v1/uploads", params={"file": "rows.csv"}, content=ROWS.encode())
        if not sent.is_success:
            return
        source = {"upload": sent.json()["upload"], "file": "rows.csv"}
        roles = {"user": "user", "item": "item", "time": "time"}
        items = self.http.post(
            "/v1/uploads", params={"file": "items.csv"},
            content=("item,stock\n" + "".join(f"i{n},{n}\n" for n in range(31))).encode(),
        )  # fmt: skip
        body = {
            "interactions": source,
            "roles": roles,
            "items": {"upload": items.json()["upload"], "file": "items.csv"},
        }
        self.wait(self.post("/v1/datasets/small/versions", body))

    def wait(self, job: dict[str, Any] | None) -> dict[str, Any]:
        """The job once it has ended."""
        end = time.monotonic() + 120
        while job is not None and time.monotonic() < end:
            told = self.http.get(f"/v1/jobs/{job['id']}").json()
            if told.get("state") in ("done", "failed", "cancelled"):
                return told
            time.sleep(0.1)
        return {}

    def require_all(self, when: str) -> None:
        """Gather, and look for every event that was acknowledged in the newest version."""
        told = self.wait(self.post("/v1/datasets/small/gatherings", {}))
        if told.get("state") != "done":
            self.outcome.report_progress(f"gather {when}", f"gathering {when}: {told.get('problem')}")
            return
        newest = self.http.get("/v1/datasets/small").json()["versions"][0]["number"]
        body = {"sql": "SELECT DISTINCT user FROM interactions", "limit": 50_000}
        rows = (self.post(f"/v1/datasets/small/versions/{newest}/query", body) or {"rows": []})["rows"]
        if lost := self.events - {row[0] for row in rows}:
            self.outcome.report_progress(f"lost {when}", f"{when}: {len(lost)} acknowledged events are in no version")


@contextmanager
def small_disk() -> Iterator[Path]:
    """A folder on a disk of its own, which few megabytes fill."""
    folder = Path(f"/tmp/gleaner-disk-{os.getpid()}")  # noqa: S108
    folder.mkdir(mode=0o755, exist_ok=True)
    subprocess.run(["/bin/mount", "-t", "tmpfs", "-o", f"size={DISK_MB}m,mode=755", "tmpfs", str(folder)], check=True)
    try:
        yield folder
    finally:
        subprocess.run(["/bin/umount", "-l", str(folder)], check=False)
        folder.rmdir()


def full_disk(seconds: float, seed: int) -> Outcome:
    """Fill the disk of the state folder under load, free it, and look for what was acknowledged."""
    outcome, drawn, end = Outcome("a full disk"), random.Random(seed), time.monotonic() + seconds  # noqa: S311
    with small_disk() as disk:
        target = Target(within=disk)
        try:
            target.start()
            target.make_keys()
            caller = Caller(target, outcome)
            caller.bring()
            filler = disk / "filler"
            while True:
                with filler.open("wb", buffering=0) as file:
                    try:
                        while True:
                            file.write(b"\0" * drawn.choice((4096, 65_536)))
                    except OSError:
                        pass
                for _ in range(20):
                    caller.event()
                caller.bring()
                with filler.open("wb"):
                    pass
                filler.unlink()
                target.wait_ready()
                _require_back(caller, outcome)
                caller.require_all("after the disk was full")
                if time.monotonic() > end:
                    break
        finally:
            target.stop()
    return outcome


def _require_back(caller: Caller, outcome: Outcome) -> None:
    """Writes are taken again soon after there is room."""
    end = time.monotonic() + 60
    while time.monotonic() < end:
        if caller.event():
            return
        time.sleep(0.2)
    outcome.report_progress("not back", "no event is taken a minute after there is room again")


class MovableClock:
    """The clock of a service's processes, which can be moved while they run."""

    def __init__(self, folder: Path) -> None:
        self.file, self.library = folder / "clock", folder / "clock.so"
        self.move(0)
        self.file.chmod(0o644)
        source = Path(__file__).with_name("clock.c")
        subprocess.run(["/usr/bin/gcc", "-O2", "-shared", "-fPIC", "-o", str(self.library), str(source)], check=True)
        self.library.chmod(0o755)
        folder.chmod(0o755)

    def move(self, seconds: int) -> None:
        """Let it differ from the true one by so many seconds, from now on."""
        with self.file.open("r+b" if self.file.exists() else "wb") as file:
            file.write(struct.pack("=q", seconds))

    @contextmanager
    def preloaded(self) -> Iterator[None]:
        """Have processes that are started meanwhile go by it, and those that they start."""
        own = {"LD_PRELOAD": str(self.library), "ATTACK_CLOCK": str(self.file)}
        os.environ.update(own)
        try:
            yield
        finally:
            for name in own:
                del os.environ[name]


def clock_jumps(seconds: float, seed: int) -> Outcome:
    """Jumps of the clock in both directions: events, changes, lists and jobs go on, and nothing is lost."""
    outcome = Outcome("jumps of the clock")
    target = Target()
    clock = MovableClock(target.home)
    try:
        with clock.preloaded():
            target.start()
        target.make_keys()
        caller = Caller(target, outcome)
        caller.bring()
        caller.wait(caller.post("/v1/models", {"data": "small", "family": "popular", "name": "small.popular"}))
        file = "shelf: small\ncandidates: [{model: small.popular}]\nfallback: [{model: small.popular}]\nshow: [stock]\n"
        caller.post("/v1/shelves", {"file": file})
        end = time.monotonic() + seconds
        for turn, jump in enumerate(itertools.cycle(JUMPS)):
            if turn >= len(JUMPS) and time.monotonic() > end:
                break
            clock.move(jump)
            for _ in range(5):
                if not caller.event():
                    outcome.report_progress(f"event {jump}", f"no event is taken once the clock jumped to {jump}")
            change = {"changes": [{"id": "i2", "columns": {"stock": 1000 + turn}}]}
            caller.post("/v1/datasets/small/items/changes", change)
            _require_stock(caller, 1000 + turn, f"after a change at {jump}", outcome)
            caller.require_all(f"at {jump}")
            _require_stock(caller, 1000 + turn, f"after gathering at {jump}", outcome)
    finally:
        target.stop()
    return outcome


def _require_stock(caller: Caller, stock: int, when: str, outcome: Outcome) -> None:
    answer = caller.post("/v1/shelves/small/recommendations", {"candidates": ["i2"], "n": 1})
    shown = answer["list"][0]["columns"]["stock"] if answer else None
    if shown != stock:
        outcome.report_progress(f"stock {when}", f"{when} the stock is shown as {shown}, and was set to {stock}")


def migrations(target: Target, seconds: float) -> Outcome:
    """Several migrate at once, again and again, while events are sent."""
    outcome, end = Outcome("migrations under load"), time.monotonic() + seconds
    caller = Caller(target, outcome)
    caller.bring()
    ending = threading.Event()

    def send() -> None:
        while not ending.is_set():
            if not caller.event():
                outcome.report_progress("event", "an event was refused while several migrated")

    sending = threading.Thread(target=send, daemon=True)
    sending.start()
    code = (
        "from gleaner.store.database.engine import make_engine, migrate; import sys; migrate(make_engine(sys.argv[1]))"
    )
    while True:
        running = [
            subprocess.Popen([sys.executable, "-c", code, target.database_url], stderr=subprocess.PIPE)
            for _ in range(3)
        ]
        for process in running:
            _, words = process.communicate()
            if process.returncode:
                outcome.report_progress("migration", f"a migration failed: {words.decode()[-300:]}")
            else:
                outcome.count()
        if time.monotonic() > end:
            break
    ending.set()
    sending.join()
    caller.require_all("after migrations")
    outcome.notes.append(f"{len(caller.events):,} events beside them")
    return outcome
