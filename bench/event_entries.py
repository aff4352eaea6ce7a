"""Events told in batches while lists go on."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Iterator
from itertools import count

import numpy as np
import psycopg

from bench.load import Connection, paced
from bench.measure import Bar, Result
from bench.service_entries import CONNECTIONS, peak_mb, prepared, running

BATCH = 500
SECONDS = 10.0
WANTED = 5000
LISTS_A_SECOND = 300
P99_MS = 100.0
ITEMS = 2000


def events(size: str) -> Result:
    """Seconds per event, told in batches over one connection while lists are asked for, beside the same rows copied
    into a table of the same form."""
    with running() as (supervisor, client):
        users = prepared(client, size)
        port = supervisor.settings.port
        paths = [f"/v1/shelves/load/recommendations?user={user}&n=10" for user in users]
        waits: list[np.ndarray] = []
        line = Connection(port)
        # the shelf is loaded when it is published, a moment ago
        line.get(paths[0])
        lists = threading.Thread(target=lambda: waits.append(paced(port, paths, CONNECTIONS, LISTS_A_SECOND, SECONDS)))
        lists.start()
        bodies = _bodies(users)
        taken, begun = 0, time.perf_counter()
        while time.perf_counter() - begun < SECONDS:
            answer = json.loads(line.post("/v1/events", next(bodies)))
            taken += answer["taken"]
        took = time.perf_counter() - begun
        lists.join()
        line.close()
        kept = _kept(supervisor.settings.require_database_url())
        if kept != taken:
            raise RuntimeError(f"{taken} events were acknowledged, {kept} are there")
        copied = _copied(supervisor.settings.require_database_url(), users)
        peak = peak_mb(supervisor)
    p50, p99 = np.quantile(waits[0], [0.5, 0.99]) * 1000
    rate = taken / took
    note = (
        f"{rate:,.0f} events a second in batches of {BATCH}, durable; {LISTS_A_SECOND} lists a second beside: "
        f"p50 {p50:.1f} ms, p99 {p99:.1f} ms"
    )
    holds = rate >= WANTED and p99 < P99_MS
    bar = Bar(also=f"{WANTED:,} a second, lists p99 {P99_MS:g} ms", also_holds=bool(holds))
    return Result("events told", took / taken, peak, "COPY of the same rows", copied, note, bar)


def _rows(users: list[str]) -> Iterator[tuple[str, str, str]]:
    random = np.random.default_rng(7)
    for number in count():
        yield f"bench-{number}", users[int(random.integers(len(users)))], f"v-{int(random.integers(ITEMS)):04d}"


def _bodies(users: list[str]) -> Iterator[bytes]:
    rows = _rows(users)
    while True:
        batch = [dict(zip(("id", "user", "item"), next(rows), strict=True)) | {"kind": "view"} for _ in range(BATCH)]
        yield json.dumps({"data": "load", "events": batch}).encode()


def _kept(url: str) -> int:
    with psycopg.connect(url) as connection:
        [count] = connection.execute("SELECT count(*) FROM events WHERE id LIKE 'bench-%'").fetchone() or [0]
        return int(count)


def _copied(url: str, users: list[str]) -> float:
    """Seconds per row of batches that PostgreSQL takes in without us, each its own transaction."""
    rows, batches = _rows(users), 40
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute("CREATE TABLE peer (LIKE events INCLUDING ALL)")
        connection.execute("ALTER TABLE peer ALTER seq SET GENERATED ALWAYS")
        begun = time.perf_counter()
        for _ in range(batches):
            with (
                connection.cursor() as cursor,
                cursor.copy("COPY peer (dataset_id, id, source, user_id, item_id, kind, at) FROM STDIN") as out,
            ):
                for _ in range(BATCH):
                    name, user, item = next(rows)
                    out.write_row((1, name, "", user, item, "view", "2026-01-01"))
        return (time.perf_counter() - begun) / (batches * BATCH)
