"""The service under load: one web process, personalised top-10 lists with one condition."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
import polars as pl

from bench.load import Connection, paced, saturate
from bench.measure import Bar, Result
from bench.worlds import FOLDER, SEED
from gleaner.client import Client, calls
from gleaner.demo.simulate import simulate
from gleaner.demo.world import Sizes
from gleaner.launch.ports import free_port
from gleaner.launch.supervisor import Supervisor
from gleaner.settings import Settings
from gleaner.wire.contests.contest import FileRequest, PrepareSpec
from gleaner.wire.imports import ImportRequest, Roles, Source
from gleaner.wire.models.training import TrainRequest

SIZES = {
    "small": Sizes(4_000, 5_000, 200_000, SEED),
    "medium": Sizes(20_000, 30_000, 2_000_000, SEED),
    "large": Sizes(60_000, 100_000, 6_000_000, SEED),
}
RANK = 64
CONNECTIONS = 8
SECONDS = 6.0
TURNS = 3
P99_MS = 15.0
ROLES = Roles(user="grower", item="variety", kind="kind", time="at", value="value")
PREPARE = PrepareSpec(kinds={"view": 1, "save": 3, "request": 5})
SHELF = """shelf: load
candidates: [{model: load}]
where: stock > 3
fallback: [{model: anybody}]
"""


def one_list(size: str) -> Result:
    """Seconds per answer at saturation beside a bare endpoint, and the slowest hundredth at half of saturation."""
    with running() as (supervisor, client):
        users = prepared(client, size)
        port = supervisor.settings.port
        paths = [f"/v1/shelves/load/recommendations?user={user}&n=10" for user in users]
        line = Connection(port)
        body = line.get(paths[0])
        line.close()
        with _bare(body) as bare_port:
            bare_paths = [f"/bare?user={user}" for user in users]
            best, bare, slow, bare_slow = 0.0, 0.0, np.full(2, np.inf), np.full(2, np.inf)
            for _ in range(TURNS):
                best = max(best, saturate(port, paths, CONNECTIONS, SECONDS))
                bare = max(bare, saturate(bare_port, bare_paths, CONNECTIONS, SECONDS))
                slow = min(slow, _waits_ms(port, paths, best / 2), key=_slowest)
                bare_slow = min(bare_slow, _waits_ms(bare_port, bare_paths, best / 2), key=_slowest)
        peak = peak_mb(supervisor)
    note = (
        f"{SIZES[size].items:,} items, rank {RANK}, one condition, one process; {best:,.0f} lists a second; "
        f"at half of that p50 {slow[0]:.1f} ms, p99 {slow[1]:.1f} ms (bare: {bare_slow[0]:.1f} and {bare_slow[1]:.1f})"
    )
    bar = Bar(3.0, also=f"p99 {P99_MS:g} ms", also_holds=bool(slow[1] < P99_MS))
    return Result("one list from the service", 1 / best, peak, "bare endpoint, same bytes", 1 / bare, note, bar)


def _waits_ms(port: int, paths: list[str], rate: float) -> np.ndarray:
    """The median and the slowest hundredth of waits at `rate`. The bare endpoint's tell what the machine adds."""
    return np.quantile(paced(port, paths, CONNECTIONS * 4, rate, SECONDS), [0.5, 0.99]) * 1000


def _slowest(waits: np.ndarray) -> float:
    return float(waits[1])


@contextmanager
def running() -> Iterator[tuple[Supervisor, Client]]:
    """A whole service in a folder of its own that the user PostgreSQL runs as can reach."""
    home = Path(tempfile.mkdtemp(prefix="gleaner-bench-"))
    home.chmod(0o755)
    supervisor = Supervisor(Settings(home=home, port=free_port()))
    supervisor.start(lambda step, seconds: None)
    try:
        with Client(supervisor.url) as client:
            yield supervisor, client
    finally:
        supervisor.stop()
        shutil.rmtree(home)


def prepared(client: Client, size: str) -> list[str]:
    """Import a world, train, publish; answers users to ask for."""
    folder = FOLDER / f"service-{size}-{SEED}"
    if not (folder / "interactions.csv").exists():
        simulate(SIZES[size], folder)
    sent = [client.send(calls.upload(folder / name)) for name in ("interactions.csv", "varieties.csv")]
    rows, items = (Source(upload=each.upload, file=each.file) for each in sent)
    request = ImportRequest(interactions=rows, roles=ROLES, items=items)
    client.wait(client.send(calls.import_version("load", request)).id)
    for name, family, params in (("load", "als", {"rank": RANK, "iterations": 5}), ("anybody", "popular", {})):
        training = TrainRequest(data="load", family=family, params=params, name=name, prepare=PREPARE, confirm=True)
        client.wait(client.send(calls.train_model(training)).id)
    client.send(calls.publish_shelf(FileRequest(file=SHELF, name="load.yaml")))
    settle()
    names = pl.read_csv(folder / "interactions.csv", columns=["grower"])["grower"].unique().sort()
    return names.sample(2000, seed=3).to_list()


def settle() -> None:
    """Have everything written that imports and fits left for the disk, or it would be while lists are timed."""
    os.sync()


@contextmanager
def _bare(body: bytes) -> Iterator[int]:
    """The peer, started with the bytes to answer."""
    port = free_port()
    with tempfile.NamedTemporaryFile() as file:
        file.write(body)
        file.flush()
        process = subprocess.Popen([sys.executable, "-m", "bench.peers.bare", file.name, str(port)])
        try:
            _wait_for(port)
            yield port
        finally:
            process.terminate()
            process.wait()


def _wait_for(port: int) -> None:
    end = time.monotonic() + 30
    while time.monotonic() < end:
        try:
            Connection(port).close()
            return
        except OSError:
            time.sleep(0.05)
    raise RuntimeError("the bare endpoint did not start")


def peak_mb(supervisor: Supervisor) -> float:
    """The web process's peak memory."""
    process = next(child.process for child in supervisor.children if child.name == "web service")
    assert process is not None
    status = Path(f"/proc/{process.pid}/status").read_text()
    match = re.search(r"VmHWM:\s+(\d+)", status)
    assert match
    return int(match.group(1)) / 1024
