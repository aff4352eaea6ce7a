"""Small things that unfold into much, or lie: schedules that never come, crafted models, files and workbooks that grow."""

from __future__ import annotations

import io
import json
import random
import time
import zipfile
from collections.abc import Callable
from typing import Any

import httpx
import numpy as np
import openpyxl
import pyarrow as pa
import pyarrow.parquet as pq
from safetensors.numpy import load, save

from attack.files import mutated
from attack.outcome import Outcome
from attack.target import JOB_MEMORY_MB, Target, children_of, has_argument, resident_mb

BROKEN = ("internal",)
SHELF = (
    "shelf: scheduled-{n}\ncandidates: [{{model: first-look.als}}]\nfallback: [{{model: first-look.popular}}]\n"
    "refresh: {{every: '{every}'}}\n"
)
NEVER = (
    "0 0 30 2 *",
    "0 0 31 2,4,6,9,11 *",
    "61 0 * * *",
    "* * * * * *",
    "@yearly",
    "0 0 29 2 *",
    "0 0 1-31/40 * *",
    "",
)


def schedules(target: Target, seconds: float, seed: int) -> Outcome:
    """Schedules of every sort: refused in words or published, and the overview and other schedules go on."""
    outcome, drawn, end = Outcome("schedules"), random.Random(seed), time.monotonic() + seconds  # noqa: S311
    fields = ("*", "0", "59", "*/7", "31", "2", "1-5", "60", "-1", "30", "L", "7", "1,2,3", "*/0", "99999999999")
    with httpx.Client(base_url=target.url, headers=target.headers("build"), timeout=60) as http:
        tries = list(NEVER)
        while tries or time.monotonic() < end:
            every = tries.pop() if tries else " ".join(drawn.choice(fields) for _ in range(5))
            file = {"file": SHELF.format(n=drawn.randrange(3), every=every)}
            for path in ("/v1/shelves/check", "/v1/shelves"):
                answer = http.post(path, json=file)
                _count(answer, f"{path} {every!r}", outcome)
            _count(http.get("/v1/overview"), f"overview after {every!r}", outcome, only_200=True)
        for number in range(3):
            http.post("/v1/shelves", json={"file": SHELF.format(n=number, every="0 0 29 2 *")})
    return outcome


def _count(answer: httpx.Response, what: str, outcome: Outcome, *, only_200: bool = False) -> None:
    if answer.status_code >= 500 or (only_200 and answer.status_code != 200):
        outcome.report_progress(what, f"{what}: {answer.status_code} {answer.text[:300]}")
    else:
        outcome.count(refused=answer.status_code >= 400)


def unfolding_parquet() -> tuple[str, bytes]:
    """One long text in every row, a dictionary of one entry."""
    n_rows, text = 60_000, "x" * 200_000
    texts = pa.DictionaryArray.from_arrays(pa.array(np.zeros(n_rows, np.int32)), pa.array([text]))
    ids = pa.DictionaryArray.from_arrays(pa.array(np.zeros(n_rows, np.int32)), pa.array(["u"]))
    out = io.BytesIO()
    pq.write_table(pa.table({"user": ids, "item": ids, "note": texts}), out, compression="zstd", store_schema=False)
    return "unfolding.parquet", out.getvalue()


def many_rows() -> tuple[str, bytes]:
    """Very many rows of one cell."""
    n_rows = 200_000_000
    out = io.BytesIO()
    ids = pa.DictionaryArray.from_arrays(pa.array(np.zeros(n_rows // 100, np.int32)), pa.array(["u"]))
    table = pa.table({"user": ids, "item": ids})
    with pq.ParquetWriter(out, table.schema, compression="zstd", store_schema=False) as writer:
        for _ in range(5):
            writer.write_table(table)
    return "many.parquet", out.getvalue()


def workbook_bomb() -> tuple[str, bytes]:
    """A workbook whose sheet is a gigabyte of the same row."""
    book = openpyxl.Workbook(write_only=True)
    book.create_sheet("a").append(["user", "item"])
    out = io.BytesIO()
    book.save(out)
    with zipfile.ZipFile(out) as archive:
        parts = {name: archive.read(name) for name in archive.namelist()}
    row = b"<row><c t='inlineStr'><is><t>u</t></is></c><c t='inlineStr'><is><t>i</t></is></c></row>"
    sheet = next(name for name in parts if name.startswith("xl/worksheets/sheet"))
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in parts.items():
            if name != sheet:
                archive.writestr(name, content)
        with archive.open(sheet, "w", force_zip64=True) as file:
            file.write(b"<worksheet xmlns='http://schemas.openxmlformats.org/spreadsheetml/2006/main'><sheetData>")
            for _ in range(4_000):
                file.write(row * 3_000)
            file.write(b"</sheetData></worksheet>")
    return "bomb.xlsx", packed.getvalue()


BOMBS: tuple[Callable[[], tuple[str, bytes]], ...] = (unfolding_parquet, many_rows, workbook_bomb)


def jobs_memory(target: Target, seconds: float, seed: int) -> Outcome:
    """Files that unfold: looked into and imported. The job fails in words, and never takes more than it may."""
    outcome, end = Outcome("memory of jobs"), time.monotonic() + seconds
    highest = 0.0
    with httpx.Client(base_url=target.url, headers=target.headers("build"), timeout=200) as http:
        bombs = [make() for make in BOMBS]
        while True:
            for name, content in bombs:
                sent = http.post("/v1/uploads", params={"file": name}, content=content).json()
                source = {"upload": sent["upload"], "file": name}
                answer = http.post("/v1/proposals", json={"interactions": source})
                if (answer.status_code >= 500 and answer.status_code != 503) or len(answer.content) > 200_000:
                    text = f"{name}: {answer.status_code}, {len(answer.content):,} bytes: {answer.text[:200]}"
                    outcome.report_progress(f"look {name}", text)
                roles = {"user": "user", "item": "item"} | (
                    {"context": ["note"]} if name == "unfolding.parquet" else {}
                )
                queued = http.post("/v1/datasets/bombs/versions", json={"interactions": source, "roles": roles}).json()
                took = _follow(http, target, queued["id"], name, outcome)
                highest = max(highest, took)
            if time.monotonic() > end:
                break
    outcome.notes.append(f"{len(bombs)} files; a job took {highest:,.0f} MB at most, and may take {JOB_MEMORY_MB:,}")
    if highest > 1.5 * JOB_MEMORY_MB:
        outcome.report_progress("memory", f"a job took {highest:,.0f} MB")
    return outcome


def _follow(http: httpx.Client, target: Target, job: int, name: str, outcome: Outcome) -> float:
    """Wait for a job; the most memory that its process was seen to have."""
    highest, end = 0.0, time.monotonic() + 180
    while time.monotonic() < end:
        told = http.get(f"/v1/jobs/{job}").json()
        highest = max(highest, *(resident_mb(pid) for pid in _job_processes(target)), 0.0)
        if told["state"] in ("done", "failed", "cancelled"):
            problem = told.get("problem") or {}
            if problem.get("type", "").rpartition(":")[2] in (*BROKEN, "process-died"):
                outcome.report_progress(f"job {name}", f"{name}: {problem}")
            else:
                outcome.count(refused=told["state"] != "done")
            return highest
        time.sleep(0.05)
    outcome.report_progress(f"job {name}", f"{name}: its job has not ended after 180 s")
    return highest


def _job_processes(target: Target) -> list[int]:
    """Processes of jobs: those that the worker's forker started."""
    worker = target.processes().get("worker")
    if worker is None:
        return []
    return [job for forker in children_of(worker) for job in children_of(forker) if not has_argument(job, "postgres")]


def models(target: Target, seconds: float, seed: int) -> Outcome:
    """Model folders that are whole and lie: ids that cannot be kept, sizes and parameters beyond reason."""
    outcome, drawn, end = Outcome("crafted models"), random.Random(seed), time.monotonic() + seconds  # noqa: S311
    with httpx.Client(base_url=target.url, headers=target.headers("build"), timeout=120) as http:
        exported = http.get("/v1/models/first-look.als@1/export").content
        with zipfile.ZipFile(io.BytesIO(exported)) as archive:
            parts = {name: archive.read(name) for name in archive.namelist()}
        crafts = [*CRAFTS]
        while crafts or time.monotonic() < end:
            craft = crafts.pop() if crafts else drawn.choice(CRAFTS)
            content = _zipped(craft(dict(parts), drawn))
            sent = http.post("/v1/uploads", params={"file": "model.zip"}, content=content).json()
            queued = http.post("/v1/models/take", json={"upload": sent["upload"], "name": "crafted"})
            if queued.status_code >= 400:
                _count(queued, craft.__name__, outcome)
                continue
            _follow(http, target, queued.json()["id"], craft.__name__, outcome)
            told = http.get(f"/v1/jobs/{queued.json()['id']}").json()
            if told["state"] == "done":
                outcome.report_progress(craft.__name__, f"{craft.__name__} was taken in")
        lists = http.get("/v1/shelves/for-growers/recommendations?user=g-0417&n=3", headers=target.headers("serve"))
        _count(lists, "a list after crafted models", outcome, only_200=True)
    return outcome


Parts = dict[str, bytes]


def _matrix_name(parts: Parts) -> str:
    return next(name for name in parts if name.endswith(".safetensors") and "item_bytes" in load(parts[name]))


def nul_in_an_id(parts: Parts, drawn: random.Random) -> Parts:
    """An item whose id no database keeps."""
    name = _matrix_name(parts)
    arrays = load(parts[name])
    arrays["item_bytes"] = arrays["item_bytes"].copy()
    arrays["item_bytes"][drawn.randrange(len(arrays["item_bytes"]))] = 0
    return parts | {name: save(arrays)}


def a_long_id(parts: Parts, drawn: random.Random) -> Parts:
    """An item whose id is longer than an index holds."""
    name = _matrix_name(parts)
    arrays = load(parts[name])
    more = np.full(3000, ord("a"), np.uint8)
    arrays["item_bytes"] = np.concatenate([arrays["item_bytes"], more])
    arrays["item_offsets"] = arrays["item_offsets"].copy()
    arrays["item_offsets"][-1] += len(more)
    return parts | {name: save(arrays)}


def _with_card(parts: Parts, **changes: Any) -> Parts:
    name = next(name for name in parts if name.endswith(".json"))
    return parts | {name: json.dumps(json.loads(parts[name]) | changes).encode()}


def huge_parameters(parts: Parts, drawn: random.Random) -> Parts:
    """A family whose weights would be gigabytes, by its card alone."""
    params = {"rank": 16_384, "blocks": 8, "length": 100}
    return _with_card(parts, family="self_attention", params=params)


def another_family(parts: Parts, drawn: random.Random) -> Parts:
    """A card that names a family whose arrays these are not."""
    family = drawn.choice(
        ("item_knn", "item_linear", "two_towers", "popular", "second_stage", "no such", "variational_autoencoder")
    )
    return _with_card(parts, family=family, params={})


def wrong_sizes(parts: Parts, drawn: random.Random) -> Parts:
    """A card that says more users than there are."""
    return _with_card(parts, users=2**40, cells=2**50)


CRAFTS: tuple[Callable[[Parts, random.Random], Parts], ...] = (
    nul_in_an_id, a_long_id, huge_parameters, another_family, wrong_sizes,
)  # fmt: skip


def _zipped(parts: Parts) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in parts.items():
            archive.writestr(name, content)
    return out.getvalue()


def encoders(target: Target, seconds: float, seed: int) -> Outcome:
    """Text encoders that are none: a fit that names one fails in words, and nothing but its process may end of it."""
    outcome, drawn, end = Outcome("hostile text encoders"), random.Random(seed), time.monotonic() + seconds  # noqa: S311
    died = 0
    with httpx.Client(base_url=target.url, headers=target.headers("build"), timeout=120) as http:
        files = [*ENCODERS]
        while files or time.monotonic() < end:
            content = files.pop() if files else mutated(_graph("model"), drawn)
            folder = target.home / "text-encoders" / f"hostile-{drawn.randrange(10**9)}"
            folder.mkdir(parents=True)
            (folder / "model.onnx").write_bytes(content)
            (folder / "tokenizer.json").write_bytes(drawn.choice(TOKENIZERS))
            params = {"item_columns": ["name"], "text_encoder": folder.name}
            body = {"data": "seeds@1", "family": "item_content", "name": "encoded", "params": params}
            queued = http.post("/v1/models", json=body)
            if queued.status_code >= 400:
                _count(queued, "an encoder", outcome)
                continue
            problem = _ended(http, queued.json()["id"]).get("problem") or {}
            kind = problem.get("type", "").rpartition(":")[2]
            died += kind == "process-died"
            if kind in BROKEN:
                outcome.report_progress("encoder", f"an encoder: {problem}")
            else:
                outcome.count(refused=bool(problem))
    outcome.notes.append(f"{died} processes of jobs ended; each stayed inside")
    return outcome


def _ended(http: httpx.Client, job: int) -> dict[str, Any]:
    """The job once it has ended."""
    end = time.monotonic() + 120
    while time.monotonic() < end:
        told: dict[str, Any] = http.get(f"/v1/jobs/{job}").json()
        if told["state"] in ("done", "failed", "cancelled"):
            return told
        time.sleep(0.05)
    return {"problem": {"type": "urn:gleaner:problem:internal", "detail": "it has not ended after 120 s"}}


def _graph(location: str) -> bytes:
    """The beginning of an ONNX file whose weights lie in another file."""
    return b"\x08\x08\x12\x07hostile:\x5a" + b"\x0a\x10" + location.encode()[:80].ljust(80, b"\0")


ENCODERS = (
    b"", b"not a network", b"\x08\x08" * 10_000, _graph("../../postgres.secret"), b"\xff" * 100_000, b"\0" * 5_000_000,
)  # fmt: skip
TOKENIZERS = (b"", b"{}", b"[" * 100_000, b'{"version": "1.0", "model": {"type": "BPE", "vocab": {}, "merges": []}}')
