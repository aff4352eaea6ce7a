"""The Gleaner that is attacked: on loopback, with the demo's data, and a key for each scope."""

from __future__ import annotations

import contextlib
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import httpx

from gleaner.client import Client, service_calls
from gleaner.demo.full import Demo
from gleaner.launch.ports import free_port
from gleaner.store import keys
from gleaner.store.database.engine import make_engine
from gleaner.wire.keys import KeyRequest, Scope

READY_S = 90.0
JOB_MEMORY_MB = 1500
"""What a job of the target may take."""

NAMES = {"gleaner web 1": "web service", "gleaner worker": "worker"}
"""The processes that are forked, by what each calls itself."""
SCOPES = ("serve", "events", "metrics", "build", "admin")


def new_home(copied: Path | None, within: Path | None = None) -> Path:
    """A new state folder: an empty one, or a copy. Raises ValueError for what is no state folder, and while its service
    runs."""
    if copied is not None:
        check_copied(copied)
    home = Path(tempfile.mkdtemp(prefix="gleaner-attack-", dir=within))
    if copied is not None:
        # with its owners: part of it belongs to the user PostgreSQL runs as
        subprocess.run(["/bin/cp", "-a", f"{copied}/.", str(home)], check=True)
    return home


def check_copied(home: Path) -> None:
    """Raises ValueError for what is no state folder, and while its service runs."""
    if not (home / "postgres").is_dir():
        raise ValueError(f"{home} is no state folder")
    if (home / "postgres" / "postmaster.pid").exists():
        raise ValueError(f"stop the service of {home} first: what is copied while it is written is not whole")


class Target:
    """A Gleaner that `gleaner up` runs in processes of its own, found again by who started whom."""

    def __init__(self, home: Path | None = None, within: Path | None = None) -> None:
        self.home = new_home(home, within)
        self.port = free_port()
        self.url = f"http://127.0.0.1:{self.port}"
        self.process: subprocess.Popen[bytes] | None = None
        self.keys: dict[str, str] = {}

    def start(self) -> None:
        """Start it, and wait until it is ready."""
        own = {
            "GLEANER_HOME": str(self.home),
            "GLEANER_PORT": str(self.port),
            "GLEANER_AUTH": "required",
            "GLEANER_HEARTBEAT_S": "0.5",
            "GLEANER_STALLED_AFTER_S": "5",
            "GLEANER_TRAIN_SECONDS": "60",
            "GLEANER_QUERY_SECONDS": "3",
            "GLEANER_JOB_MEMORY_MB": str(JOB_MEMORY_MB),
        }
        log = (self.home / "attack.log").open("ab")
        self.process = subprocess.Popen(
            [str(Path(sys.executable).parent / "gleaner"), "up"],
            env=os.environ | own, stdout=log, stderr=log, stdin=subprocess.DEVNULL, start_new_session=True,
        )  # fmt: skip
        log.close()
        self.wait_ready()

    def wait_ready(self) -> None:
        """Wait until it answers. Raises RuntimeError when it does not."""
        end = time.monotonic() + READY_S
        while time.monotonic() < end:
            try:
                if httpx.get(f"{self.url}/readyz", timeout=5).status_code == 200:
                    return
            except httpx.HTTPError:
                pass
            if self.process is not None and self.process.poll() is not None:
                break
            time.sleep(0.05)
        raise RuntimeError(f"the service is not ready; see {self.home}/attack.log and gleaner.log")

    def last_words(self) -> str:
        """The end of what it printed."""
        return (self.home / "attack.log").read_text(errors="replace")[-500:]

    def make_keys(self) -> None:
        """Make a key for each scope."""
        engine = make_engine(self.database_url)
        with engine.begin() as connection:
            first = keys.create(connection, KeyRequest(name="attack-first", scopes=[Scope.ADMIN]))
        engine.dispose()
        self.keys["admin"] = first.secret
        with self.client() as admin:
            for scope in SCOPES[:-1]:
                request = KeyRequest(name=f"attack-{scope}", scopes=[Scope(scope)])
                self.keys[scope] = admin.send(service_calls.create_key(request)).secret

    def fill(self) -> None:
        """Make keys, and have the demo's data, contest, models and shelf."""
        self.make_keys()
        os.environ["GLEANER_KEY"] = self.keys["admin"]
        try:
            with contextlib.redirect_stdout(sys.stderr):
                Demo(self.url).run()
        finally:
            del os.environ["GLEANER_KEY"]

    def client(self, scope: str = "admin") -> Client:
        """A client with the key of a scope."""
        return Client(self.url, self.keys[scope])

    def headers(self, scope: str | None) -> dict[str, str]:
        """What lets a caller of this scope in; nothing for None."""
        return {} if scope is None else {"Authorization": f"Bearer {self.keys[scope]}"}

    @property
    def database_url(self) -> str:
        """The database, as only whoever owns the state folder reaches it."""
        data = self.home / "postgres" / "postmaster.pid"
        port = data.read_text().splitlines()[3]
        return f"postgresql://gleaner:{(self.home / 'postgres.secret').read_text()}@127.0.0.1:{port}/gleaner"

    def processes(self) -> dict[str, int]:
        """The processes that run, by name."""
        assert self.process is not None
        result = {"supervisor": self.process.pid}
        for child in children_of(self.process.pid):
            if has_argument(child, str(self.home / "postgres")):
                result["database"] = child
            if has_argument(child, "gleaner.processes.fork_server"):
                result["fork server"] = child
                result |= {NAMES[called(each)]: each for each in children_of(child) if called(each) in NAMES}
        return result

    def kill(self, name: str) -> None:
        """Kill a process, and everything of it at once. Of the supervisor, start it again."""
        pid = self.processes().get(name)
        if pid is None:
            return
        os.kill(pid, signal.SIGKILL)
        if name == "supervisor":
            assert self.process is not None
            self.process.wait()
            # what it leaves ends by itself, and whatever does not must not keep the next from starting
            self.start()

    def stop(self) -> None:
        """Stop everything; nothing is kept."""
        if self.process is not None and self.process.poll() is None:
            self.process.terminate()
            try:
                self.process.wait(timeout=60)
            except subprocess.TimeoutExpired:
                self.process.kill()
                self.process.wait()
        shutil.rmtree(self.home, ignore_errors=True)


def children_of(pid: int) -> list[int]:
    """The processes that one started."""
    try:
        text = Path(f"/proc/{pid}/task/{pid}/children").read_text()
    except OSError:
        return []
    return [int(each) for each in text.split()]


def has_argument(pid: int, wanted: str) -> bool:
    """Whether a process was started with this argument."""
    try:
        return wanted in Path(f"/proc/{pid}/cmdline").read_bytes().decode(errors="replace").split("\0")
    except OSError:
        return False


def called(pid: int) -> str:
    """What a process calls itself; nothing where it is gone."""
    try:
        return Path(f"/proc/{pid}/comm").read_text().strip()
    except OSError:
        return ""


def resident_mb(pid: int) -> float:
    """Memory of a process that is in use, in megabytes; 0 where it is gone."""
    try:
        pages = int(Path(f"/proc/{pid}/statm").read_text().split()[1])
    except (OSError, IndexError):
        return 0.0
    return pages * os.sysconf("SC_PAGE_SIZE") / 1e6
