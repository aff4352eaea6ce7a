"""Keep the worker and the web service running, and stop everything together."""

from __future__ import annotations

import fcntl
import os
import shutil
import signal
import socket
import subprocess
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO

import httpx

from gleaner.launch import private
from gleaner.launch.postgres import Cluster
from gleaner.processes.forked_process import ForkedProcess
from gleaner.processes.process_forker import ForkRequest, ProcessForker
from gleaner.settings import Settings

READY_WAIT_S = 60.0
STOP_WAIT_S = 20.0
RESTART_PAUSE_S = 1.0
LONGEST_PAUSE_S = 30.0
START_ATTEMPTS = 3
BACKLOG = 2048
TEMPLATE = "gleaner.launch.template"
WORKER = "gleaner.jobs.worker.worker:main"
WEB_SERVICE = "gleaner.service.http.run:main"
SHARED_METERS = "PROMETHEUS_MULTIPROC_DIR"

Say = Callable[[str, float], None]
"""Told each step and the seconds it took."""


@dataclass
class Child:
    """A process of ours that is started again when it ends by itself.

    name: in messages. title: as `ps -o comm` shows it. entry: `module:function`.
    """

    name: str
    title: str
    entry: str
    process: ForkedProcess | None = None
    started: float = 0.0
    listens: bool = False

    def start(self, forker: ProcessForker, environment: dict[str, str], log: int, listening: int) -> None:
        """Start it. Raises ConnectionError where what it is forked from has ended."""
        self.started = time.monotonic()
        self.process = forker.fork(
            ForkRequest(
                entry=self.entry,
                name=self.title,
                dies_by=signal.SIGTERM,
                environment=environment,
                output=log,
                descriptors=[listening] if self.listens else [],
            )
        )

    def alive(self) -> bool:
        """Whether it runs."""
        return self.process is not None and self.process.poll() is None

    def stop(self) -> None:
        """Ask it to end, wait, then insist."""
        if self.process is None or self.process.poll() is not None:
            return
        self.process.terminate()
        try:
            self.process.wait(timeout=STOP_WAIT_S)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()


@dataclass
class Supervisor:
    """PostgreSQL (unless a database URL is given), one worker, and serving processes on one socket.

    Worker and serving processes are forked from one process that has imported everything: they share its memory, and
    one that was killed is there again at once.
    """

    settings: Settings
    cluster: Cluster | None = None
    children: list[Child] = field(default_factory=list)
    forker: ProcessForker | None = None
    _socket: socket.socket | None = None
    _lock: IO[str] | None = None
    _log: IO[bytes] | None = None
    _cluster_failures: int = 0
    _cluster_due: float = 0.0

    @property
    def url(self) -> str:
        """Where the web service answers."""
        host = "127.0.0.1" if self.settings.host in ("0.0.0.0", "localhost") else self.settings.host  # noqa: S104
        return f"http://{f'[{host}]' if ':' in host else host}:{self.settings.port}"

    @property
    def log_file(self) -> Path:
        """Log of worker and web service."""
        return self.settings.home.resolve() / "gleaner.log"

    def start(self, say: Say) -> None:
        """Start everything in order. Raises RuntimeError saying what did not start."""
        self._take_home()
        self._listen()
        self._log = self.log_file.open("ab")
        # what takes longest, beside the rest
        self.forker = self._start_forker()
        begun = time.monotonic()
        if self.settings.database_url:
            private.close(self.settings.home.resolve(), None)
        else:
            self.cluster = Cluster(self.settings.home)
            self.cluster.start()
            self.settings = self.settings.model_copy(update={"database_url": self.cluster.url})
            say(f"PostgreSQL on 127.0.0.1:{self.cluster.port}", time.monotonic() - begun)
        begun = time.monotonic()
        # imported here: the command line must start fast, and SQLAlchemy takes a while
        from gleaner.store.database.engine import make_engine, migrate

        engine = make_engine(self.settings.require_database_url())
        migrate(engine)
        engine.dispose()
        say("database schema is current", time.monotonic() - begun)
        begun = time.monotonic()
        self.children = [Child("worker", "gleaner worker", WORKER)]
        for number in range(1, self.settings.serving + 1):
            name = "web service" if number == 1 else f"web service {number}"
            self.children.append(Child(name, f"gleaner web {number}", WEB_SERVICE, listens=True))
        shutil.rmtree(self._meters, ignore_errors=True)
        self._meters.mkdir()
        # those that are waited for first
        for child in reversed(self.children):
            if not any(self._start_child(child) for _ in range(START_ATTEMPTS)):
                raise RuntimeError(f"the {child.name} could not be started: {self._last_words()}; see {self.log_file}")
        self._wait_ready()
        say(f"worker and web service at {self.url}", time.monotonic() - begun)

    def watch(self) -> None:
        """Look once, and restart what has ended by itself. What cannot be started is tried again later."""
        self._watch_cluster()
        for child in self.children:
            if not child.alive() and time.monotonic() - child.started > RESTART_PAUSE_S:
                try:
                    self._start_child(child)
                except Exception as error:
                    # a full disk or too many processes may be gone at the next look
                    self._say_in_log(f"the {child.name} could not be started: {error}; trying again")

    def _watch_cluster(self) -> None:
        """Start PostgreSQL again where it has ended, with a longer pause after each failure."""
        cluster, now = self.cluster, time.monotonic()
        if cluster is None or cluster.is_alive() or now < self._cluster_due:
            return
        try:
            cluster.start_again()
        except Exception as error:
            self._cluster_failures += 1
            pause = min(LONGEST_PAUSE_S, RESTART_PAUSE_S * 2 ** (self._cluster_failures - 1))
            self._cluster_due = time.monotonic() + pause
            self._say_in_log(f"PostgreSQL could not be started again: {error}; trying again in {pause:.0f} s")
        else:
            if self._cluster_failures:
                self._say_in_log(f"PostgreSQL is there again after {self._cluster_failures} failures")
            self._cluster_failures = 0

    def _say_in_log(self, text: str) -> None:
        """Write a line to the log of worker and web service."""
        if self._log is not None:
            with suppress(OSError, ValueError):
                self._log.write(f"gleaner up: {text}\n".encode())
                self._log.flush()

    def stop(self) -> None:
        """Stop in the order that loses nothing: web service, worker, PostgreSQL."""
        serving = [child for child in self.children if child.listens]
        for child in reversed(serving):
            child.stop()
        if self._socket:
            # or who calls now waits for an answer that nobody is there to give
            self._socket.close()
        for child in self.children:
            child.stop()
        self._end_forker()
        if self.cluster:
            self.cluster.stop()
        for handle in (self._log, self._lock):
            if handle:
                handle.close()

    def _start_forker(self) -> ProcessForker:
        """The process that all others are forked from."""
        assert self._log is not None
        return ProcessForker.start([TEMPLATE], self._forker_environment(), self._log.fileno())

    def _forker_environment(self) -> dict[str, str]:
        """What is read from it when code is imported; each process gets its own besides."""
        shared = {SHARED_METERS: str(self._meters)} if self.settings.serving > 1 else {}
        # threads of a library that wait for one another sleep instead of turning: jobs share the machine with serving
        return {"OMP_WAIT_POLICY": "PASSIVE"} | os.environ | shared

    def _end_forker(self) -> None:
        """The same."""
        if self.forker is not None:
            self.forker.close()

    def _start_child(self, child: Child) -> bool:
        """Start a process of ours. False where what it is forked from was killed meanwhile: to be tried again."""
        assert self._log is not None
        assert self._socket is not None
        if self.forker is None or not self.forker.is_alive():
            self._end_forker()
            self.forker = self._start_forker()
        try:
            child.start(self.forker, self._environment(), self._log.fileno(), self._socket.fileno())
        except ConnectionError:
            return False
        return True

    def _take_home(self) -> None:
        """Hold the state folder: two supervisors on one cluster would damage neither's peace nor its data."""
        home = self.settings.home.resolve()
        home.mkdir(parents=True, exist_ok=True)
        os.umask(private.PRIVATE)
        self._lock = (home / "up.lock").open("w")
        try:
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            raise RuntimeError(f"gleaner is running already on the state folder {home}") from None

    def _listen(self) -> None:
        """Open the socket that all serving processes take calls from: held here, it outlives each of them, and what
        comes while one is started again waits. A port that something else answers on is refused."""
        family = socket.AF_INET6 if ":" in self.settings.host else socket.AF_INET
        self._socket = socket.socket(family)
        self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            self._socket.bind((self.settings.host, self.settings.port))
            self._socket.listen(BACKLOG)
        except OSError as error:
            raise RuntimeError(
                f"cannot listen on {self.settings.host} port {self.settings.port}: {error.strerror}; "
                "choose another with --port"
            ) from error

    @property
    def _meters(self) -> Path:
        """Where several serving processes count together."""
        return self.settings.home.resolve() / "meters"

    def _environment(self) -> dict[str, str]:
        """Every setting, as the processes started here read it: what we were given holds for them too."""
        given = {name: value for name, value in self.settings.model_dump().items() if value is not None}
        own = {f"GLEANER_{name.upper()}": str(value) for name, value in given.items()}
        own |= {
            "GLEANER_HOME": str(self.settings.home.resolve()),
            "GLEANER_DATABASE_URL": self.settings.require_database_url(),
        }
        if self.settings.serving > 1:
            own[SHARED_METERS] = str(self._meters)
        return os.environ | own

    def _wait_ready(self) -> None:
        end = time.monotonic() + READY_WAIT_S
        # made once: each would read the certificates of the world, while the service wants the processor to start
        with httpx.Client(timeout=2, verify=False, trust_env=False) as asking:  # noqa: S501
            while time.monotonic() < end:
                self._require_alive()
                try:
                    if asking.get(f"{self.url}/readyz").status_code == 200:
                        return
                except httpx.HTTPError:
                    time.sleep(0.05)
        raise RuntimeError(f"the web service did not answer within {READY_WAIT_S:.0f} s; see {self.log_file}")

    def _require_alive(self) -> None:
        for child in self.children:
            if not child.alive():
                text = f"the {child.name} stopped while starting: {self._last_words()}; see {self.log_file}"
                raise RuntimeError(text)

    def _last_words(self) -> str:
        return " ".join(self.log_file.read_text(errors="replace").strip().splitlines()[-1:])
