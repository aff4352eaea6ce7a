"""SQL over one version, run in a confined process (see sql_child)."""

from __future__ import annotations

import io
import json
import os
import subprocess
import sys
import tempfile
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import polars as pl

from gleaner.core.errors import InputError
from gleaner.service.problems import UnavailableError
from gleaner.service.state import Service
from gleaner.store.datasets import VersionFiles
from gleaner.wire.datasets import QueryAnswer

AT_ONCE = 3
_running = threading.BoundedSemaphore(AT_ONCE)


@contextmanager
def run_query(service: Service, files: VersionFiles, sql: str, limit: int) -> Iterator[tuple[Path, dict[str, Any]]]:
    """Run a SELECT; gives the Parquet file of its rows, which is gone afterwards, and the outcome.

    Raises InputError when the query is wrong, writes, reads what it may not, or takes too long or too much;
    UnavailableError while too many run.
    """
    if not _running.acquire(blocking=False):
        raise UnavailableError(f"{AT_ONCE} queries run already; try again in a moment")
    try:
        service.settings.staging.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(prefix=f"query-{os.getpid()}-", dir=service.settings.staging) as folder:
            out = Path(folder) / "rows.parquet"
            yield out, _outcome(service, files, sql, limit, out)
    finally:
        _running.release()


def _outcome(service: Service, files: VersionFiles, sql: str, limit: int, out: Path) -> dict[str, Any]:
    settings = service.settings
    held = {"interactions": files.interactions_file, "items": files.items_file, "users": files.users_file}
    tables = {name: str(service.artefacts.local_path(digest)) for name, digest in held.items() if digest}
    asked = {
        "tables": tables,
        "sql": sql,
        "limit": limit,
        "out": str(out),
        "memory_mb": settings.query_memory_mb,
        "seconds": settings.query_seconds,
        "threads": min(2, os.cpu_count() or 1),
    }
    try:
        ran = subprocess.run(
            [sys.executable, "-I", "-m", "gleaner.service.sql_child"],
            input=json.dumps(asked),
            capture_output=True,
            text=True,
            timeout=settings.query_seconds,
            check=False,
            cwd=out.parent,
            env={"LANG": "C.UTF-8"},
        )
    except subprocess.TimeoutExpired as error:
        text = f"the query took longer than {settings.query_seconds:g} s and was stopped; make it smaller"
        raise InputError(text, where="sql") from error
    if ran.returncode or not ran.stdout:
        text = f"the query was stopped: it needed more than {settings.query_memory_mb} MB or too long"
        raise InputError(text, where="sql")
    outcome = json.loads(ran.stdout)
    if "error" in outcome:
        raise InputError(outcome["error"] + _hint(outcome["error"], tables), where="sql")
    return outcome


def _hint(error: str, tables: dict[str, str]) -> str:
    for name in ("items", "users"):
        if f"Table with name {name} does not exist" in error and name not in tables:
            return f"; this version has no {name} table"
    return ""


def answer_of(path: Path, outcome: dict[str, Any]) -> QueryAnswer:
    """The rows as a message."""
    frame = pl.read_parquet(path)
    return QueryAnswer(
        columns=frame.columns,
        types=[str(kind).lower() for kind in frame.dtypes],
        rows=json_rows(frame),
        cut=outcome["cut"],
        seconds=outcome["seconds"],
    )


def json_rows(frame: pl.DataFrame) -> list[list[Any]]:
    """Rows as JSON values: times and dates as ISO text, numbers that JSON cannot say as null."""
    shown = frame.with_columns(
        pl.selectors.datetime(time_zone=None).dt.to_string("%Y-%m-%dT%H:%M:%S%.f"),
        pl.selectors.datetime(time_zone="*").dt.convert_time_zone("UTC").dt.to_string("%Y-%m-%dT%H:%M:%S%.fZ"),
        pl.selectors.date().dt.to_string("iso"),
        pl.selectors.time().cast(pl.String),
        pl.selectors.duration().dt.to_string("iso"),
        pl.selectors.decimal().cast(pl.Float64),
        pl.selectors.binary().cast(pl.String, strict=False),
    ).with_columns(pl.when(pl.selectors.float().is_finite()).then(pl.selectors.float()))
    return [list(row) for row in shown.iter_rows()]


def to_csv(frame: pl.DataFrame) -> bytes:
    """CSV; lists are joined by `|`."""
    lists = [name for name, kind in frame.schema.items() if kind.base_type() == pl.List]
    flat = frame.with_columns(pl.col(name).cast(pl.List(pl.String)).list.join("|") for name in lists)
    return flat.write_csv(None, datetime_format="%Y-%m-%dT%H:%M:%S%.fZ").encode()


def to_parquet(frame: pl.DataFrame) -> bytes:
    """Parquet."""
    out = io.BytesIO()
    frame.write_parquet(out, compression="zstd")
    return out.getvalue()
