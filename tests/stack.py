"""A whole Gleaner on free ports: PostgreSQL, worker and web service, as `gleaner up` starts them."""

from __future__ import annotations

import io
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, ClassVar

import httpx
import psycopg

from commands import call
from gleaner.client import Client, calls
from gleaner.launch.ports import free_port
from gleaner.launch.supervisor import Supervisor
from gleaner.processes.forked_process import ForkedProcess
from gleaner.processes.process_forker import ProcessForker
from gleaner.settings import Settings
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.contests.runs import Run
from gleaner.wire.datasets import DatasetVersion
from gleaner.wire.imports import ImportRequest, Roles, Source

ROLES = Roles(user="user", item="item", kind="kind", time="time", value="value")


def make_home() -> Path:
    """A folder that the user PostgreSQL runs as can reach, unlike pytest's own."""
    home = Path(tempfile.mkdtemp(prefix="gleaner-test-"))
    home.chmod(0o755)
    return home


def wait_for(what: Callable[[], Any], seconds: float = 30.0) -> Any:
    """Ask again and again until the answer is true; fail when it does not become so."""
    end = time.monotonic() + seconds
    pause = 0.02
    while time.monotonic() < end:
        answer = what()
        if answer:
            return answer
        time.sleep(pause)
        # what takes longer is asked less often: two cores do the asking and the work
        pause = min(pause * 1.3, 0.25)
    raise AssertionError(f"still not so after {seconds} s: {what}")


class InstalledSupervisor(Supervisor):
    """Starts processes that see what an installation has, and not all that tests need.

    What they are forked from is the same for all that are alike in these tests: importing everything takes longer than
    most tests.
    """

    _shared: ClassVar[ProcessForker | None] = None

    def _start_forker(self) -> ProcessForker:
        if self.settings.serving > 1:
            return super()._start_forker()
        if InstalledSupervisor._shared is None or not InstalledSupervisor._shared.is_alive():
            InstalledSupervisor._shared = super()._start_forker()
        return InstalledSupervisor._shared

    def _forker_environment(self) -> dict[str, str]:
        return super()._forker_environment() | {"PYTHONPATH": str(Path(__file__).parent / "as_installed")}

    def _end_forker(self) -> None:
        if self.forker is not InstalledSupervisor._shared:
            super()._end_forker()


class Stack:
    """One running Gleaner, watched over as `gleaner up` does."""

    def __init__(self, **settings: Any) -> None:
        self.home = settings.pop("home", None) or make_home()
        self.supervisor = InstalledSupervisor(Settings(home=self.home, port=free_port(), **settings))
        self.supervisor.start(lambda step, seconds: None)
        self.url = self.supervisor.url
        # what survives a killed process needs no sync; what a slow disk does must not decide a test
        self.sql("ALTER SYSTEM SET fsync = off")
        self.sql("SELECT pg_reload_conf()")
        self.client = Client(self.url)
        self.http = httpx.Client(base_url=self.url, timeout=120)
        self._ending = threading.Event()
        self._watching = threading.Thread(target=self._watch, daemon=True)
        self._watching.start()

    def _watch(self) -> None:
        while not self._ending.wait(0.1):
            self.supervisor.watch()

    @property
    def database_url(self) -> str:
        return self.supervisor.settings.require_database_url()

    def sql(self, query: str, *values: Any) -> list[tuple[Any, ...]]:
        with psycopg.connect(self.database_url, autocommit=True) as connection:
            answer = connection.execute(query, values)
            return answer.fetchall() if answer.description else []

    def process(self, name: str) -> ForkedProcess:
        result = next(child.process for child in self.supervisor.children if child.name == name)
        assert result is not None
        return result

    def kill(self, name: str) -> None:
        process = self.process(name)
        process.send_signal(signal.SIGKILL)
        process.wait()

    def add(self, name: str, text: str, roles: Roles = ROLES, **tables: str) -> DatasetVersion:
        """Import CSV text and answer the version."""
        request = ImportRequest(
            interactions=self.send_text(text, "interactions.csv"),
            roles=roles,
            **{part: self.send_text(table, f"{part}.csv") for part, table in tables.items()},
        )
        job = self.client.wait(self.client.send(calls.import_version(name, request)).id)
        assert job.result is not None
        dataset, number = job.result["version"].split("@")
        return self.client.send(calls.dataset_version(dataset, int(number)))

    def send_text(self, text: str | bytes, name: str) -> Source:
        content = text if isinstance(text, bytes) else text.encode()
        # as a stream: what is given whole is copied again for each piece that the socket takes
        sent = self.http.post("/v1/uploads", params={"file": name}, content=io.BytesIO(content))
        return Source(upload=sent.json()["upload"], file=name)

    def queue_contest(self, text: str) -> Run:
        return self.client.send(calls.run_contest(FileRequest(file=text, name="test.yaml")))

    def run_contest(self, text: str) -> Run:
        queued = self.queue_contest(text)
        self.client.wait(queued.job)
        return self.client.send(calls.run(queued.name))

    def gleaner(self, *arguments: str, **environment: str) -> subprocess.CompletedProcess[str]:
        """Run the command against this stack."""
        code, out, err = call(*arguments, **{"GLEANER_URL": self.url} | environment)
        return subprocess.CompletedProcess(arguments, code, out, err)

    def gleaner_process(self, *arguments: str) -> subprocess.CompletedProcess[str]:
        """The same in a process of its own, as a shell does it."""
        own = {"GLEANER_URL": self.url, "COLUMNS": "140"}
        return subprocess.run(
            [Path(sys.executable).parent / "gleaner", *arguments],
            env=os.environ | own,
            capture_output=True,
            text=True,
            check=False,
            timeout=120,
        )

    def files(self) -> set[str]:
        """Every artefact, upload and staged file.

        `os.walk` goes on where a job removes a folder that is being listed; `Path.rglob` raises then.
        """
        return {
            os.path.relpath(os.path.join(folder, name), self.home)
            for part in ("artefacts", "uploads", "staging")
            for folder, _, names in os.walk(self.home / part)
            for name in names
        }

    def stop(self, *, keep: bool = False) -> None:
        self._ending.set()
        self._watching.join()
        self.client.close()
        self.http.close()
        self.supervisor.stop()
        if not keep:
            shutil.rmtree(self.home)
