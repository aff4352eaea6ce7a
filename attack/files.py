"""Mutated files: one of every format that is taken, with bytes changed, cut off, repeated and put elsewhere.

A file is looked into and imported, or taken in as a model, or scored as lists. It is taken or refused in words; what
went wrong is a server error, a job that broke instead of refusing, or a process that died of it.
"""

from __future__ import annotations

import gzip
import io
import json
import random
import time
import zipfile
from collections.abc import Callable
from typing import Any

import httpx
import openpyxl
import polars as pl
import pyarrow as pa
from safetensors.numpy import load, save

from attack.outcome import Outcome
from attack.target import Target

ROWS = pl.DataFrame(
    {
        "user": [f"g-{n % 40:04}" for n in range(300)],
        "item": [f"v-{n * 7 % 90:04}" for n in range(300)],
        "value": [float(n % 5 + 1) for n in range(300)],
        "time": [f"2026-0{n % 9 + 1}-0{n % 9 + 1}T00:00:00Z" for n in range(300)],
    }
)
BROKEN = ("internal", "process-died")
"""Problems that a job must not end with, whatever it is given."""

NUMBERS = (b"0", b"-1", b"1e999", b"99999999999999999999", b"NaN", b"\xff\xff\xff\x7f", b"\x00" * 8, b"\xff" * 8)
WAIT_S = 60.0
LISTED = 8


def attack(target: Target, seconds: float, seed: int) -> Outcome:
    """Send mutated files for so long."""
    outcome, drawn = Outcome("mutated files"), random.Random(seed)  # noqa: S311
    with httpx.Client(base_url=target.url, headers=target.headers("build"), timeout=WAIT_S) as http:
        exported = http.get("/v1/models/first-look.als@1/export").content
        kinds = {name: make(ROWS) for name, make in TABLES.items()}
        kinds |= {"contest.yaml": CONTEST, "shelf.yaml": SHELF, "model.zip": exported}
        end, turn, names = time.monotonic() + seconds, 0, sorted(kinds)
        while time.monotonic() < end:
            name = names[turn % len(names)]
            turn += 1
            _try(http, name, kinds[name], drawn, outcome)
    outcome.notes.append(f"{len(names)} formats: {', '.join(names)}")
    return outcome


def _try(http: httpx.Client, name: str, content: bytes, drawn: random.Random, outcome: Outcome) -> None:
    try:
        if name == "model.zip":
            _take(http, _mutated_model(content, drawn), outcome)
        elif name.endswith(".yaml"):
            what = name.partition(".")[0]
            text = mutated(content, drawn).decode("utf-8", "replace")
            _require(http.post(f"/v1/{what}s/check", json={"file": text, "name": name}), name, outcome)
        else:
            _import(http, name, mutated(content, drawn), outcome)
    except httpx.HTTPError as error:
        outcome.report_progress(f"{name} {type(error).__name__}", f"{name}: {type(error).__name__}: {error}")


def mutated(content: bytes, drawn: random.Random) -> bytes:
    """Some bytes changed, taken out, repeated, or with a number in their place."""
    data = bytearray(content)
    for _ in range(drawn.randint(1, 4)):
        at, size = drawn.randrange(max(1, len(data))), drawn.choice((1, 1, 2, 8, 64))
        way = drawn.randrange(6)
        if way == 0:
            data[at : at + 1] = bytes([drawn.randrange(256)])
        elif way == 1:
            del data[at : at + size]
        elif way == 2:
            data[at:at] = data[at : at + size] * drawn.choice((1, 2, 50))
        elif way == 3:
            number = drawn.choice(NUMBERS)
            data[at : at + len(number)] = number
        elif way == 4:
            del data[at:]
        else:
            # footers and headers say where everything is
            near = drawn.choice((range(12), range(max(0, len(data) - 64), len(data))))
            if len(near):
                data[drawn.choice(near) % max(1, len(data))] = drawn.randrange(256)
        if not data:
            break
    return bytes(data)


def _mutated_model(content: bytes, drawn: random.Random) -> bytes:
    """An exported model with bytes of one file changed, or one entry of one array: a file that is whole and lies."""
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        parts = {name: archive.read(name) for name in archive.namelist()}
    name = drawn.choice(sorted(parts))
    if name.endswith(".safetensors") and drawn.random() < 0.7:
        arrays = load(parts[name])
        which = drawn.choice(sorted(arrays))
        array = arrays[which]
        if array.size and drawn.random() < 0.8:
            top = 2**31 - 1 if array.dtype.kind in "iu" and array.dtype.itemsize >= 4 else 255
            array.reshape(-1)[drawn.randrange(array.size)] = drawn.choice((0, 1, top, top // 2))
        else:
            arrays[which] = array[: drawn.randrange(len(array) + 1)]
        parts[name] = save(arrays)
    else:
        parts[name] = mutated(parts[name], drawn)
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for each, part_content in parts.items():
            archive.writestr(each, part_content)
    return out.getvalue()


def _upload(http: httpx.Client, name: str, content: bytes, outcome: Outcome) -> str | None:
    sent = http.post("/v1/uploads", params={"file": name}, content=content)
    return sent.json()["upload"] if _require(sent, name, outcome) else None


def _import(http: httpx.Client, name: str, content: bytes, outcome: Outcome) -> None:
    upload = _upload(http, name, content, outcome)
    source = {"upload": upload, "file": name}
    _require(http.post("/v1/proposals", json={"interactions": source}), f"look into {name}", outcome)
    request = {"interactions": source, "roles": {"user": "user", "item": "item", "value": "value", "time": "time"}}
    response = http.post("/v1/datasets/attacked/versions", json=request)
    if _require(response, f"import {name}", outcome):
        _ended(http, response.json()["id"], f"import {name}", outcome)


def _take(http: httpx.Client, content: bytes, outcome: Outcome) -> None:
    upload = _upload(http, "model.zip", content, outcome)
    response = http.post("/v1/models/take", json={"upload": upload, "name": "attacked.model"})
    if not _require(response, "take a model", outcome):
        return
    job = _ended(http, response.json()["id"], "take a model", outcome)
    if job is not None and job["state"] == "done":
        # what was taken in must answer whoever it knows, and not only the first
        users = [f"g-{n:04}" for n in range(0, 1400, 1400 // LISTED)]
        request = http.post(f"/v1/models/{job['result']['model']}/recommendations", json={"users": users, "n": 5})
        _require(request, "lists of a model that was taken in", outcome)


def _ended(http: httpx.Client, number: int, what: str, outcome: Outcome) -> dict[str, Any] | None:
    """A job when it has ended."""
    end = time.monotonic() + WAIT_S
    while time.monotonic() < end:
        job = http.get(f"/v1/jobs/{number}").json()
        if job["state"] in ("done", "failed", "cancelled"):
            kind = ((job.get("problem") or {}).get("type") or "").rpartition(":")[2]
            if kind in BROKEN:
                outcome.report_progress(
                    f"{what} {kind} {job['problem']['detail'][:60]}", f"{what}, job {number}: {job['problem']}"
                )
            else:
                outcome.count(refused=job["state"] == "failed")
            return job
        time.sleep(0.05)
    outcome.report_progress(f"{what} never ended", f"{what}: job {number} did not end within {WAIT_S:.0f} s")
    return None


def _require(answer: httpx.Response, what: str, outcome: Outcome) -> bool:
    """Whether a call was answered with what was asked for; a server error is told."""
    if answer.status_code >= 500:
        outcome.report_progress(f"{what} {answer.status_code}", f"{what}: {answer.status_code} {answer.text[:300]}")
        return False
    outcome.count(refused=answer.status_code >= 400)
    return answer.status_code < 300


def _bytes(write: Callable[[io.BytesIO], object]) -> bytes:
    out = io.BytesIO()
    write(out)
    return out.getvalue()


def _arrow(frame: pl.DataFrame) -> bytes:
    def write(out: io.BytesIO) -> None:
        table = frame.to_arrow()
        with pa.ipc.new_file(out, table.schema) as writer:
            writer.write_table(table)

    return _bytes(write)


def _workbook(frame: pl.DataFrame) -> bytes:
    book = openpyxl.Workbook()
    book.active.append(frame.columns)
    for row in frame.iter_rows():
        book.active.append(list(row))
    return _bytes(book.save)


TABLES: dict[str, Callable[[pl.DataFrame], bytes]] = {
    "rows.csv": lambda frame: frame.write_csv().encode(),
    "rows.tsv": lambda frame: frame.write_csv(separator="\t").encode(),
    "rows.csv.gz": lambda frame: gzip.compress(frame.write_csv().encode()),
    "rows.csv.zst": lambda frame: pa.compress(frame.write_csv().encode(), "zstd", asbytes=True),
    "rows.parquet": lambda frame: _bytes(frame.write_parquet),
    "rows.arrow": _arrow,
    "rows.ndjson": lambda frame: frame.write_ndjson().encode(),
    "rows.json": lambda frame: json.dumps(frame.to_dicts()).encode(),
    "rows.xlsx": _workbook,
}
CONTEST = b"""\
contest: attacked
data: seeds@1
prepare: {kinds: {view: 1, save: 3}, merge: sum, min_user: 5, min_item: 5}
split: {by: time, test: 0.1, validation: 0.1}
rank: {at: [5, 10], metrics: [ndcg, recall], decide_by: ndcg@10}
contenders:
  - popular
  - item_knn: {neighbours: 100}
  - als: {rank: {choose: [8, 16]}, regularisation: {between: [0.01, 1.0], log: true}}
tune: {search: random, attempts: 2}
"""
SHELF = b"""\
shelf: attacked
candidates: [{model: first-look.als, take: 100}, {popular: {days: 30, kinds: [request]}}]
order: {diversify: {weight: 0.3, by: family}}
where: stock > 0 AND NOT surplus
slots: {promoted: {where: surplus, share: 0.2}, limit: {column: family, most: 3}, pinned: [{item: v-0010, place: 1}]}
fallback: [{model: first-look.popular}]
show: [name]
"""
