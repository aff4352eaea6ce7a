"""SQL over one version, run in a confined process (see sql_child)."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path
from typing import IO, Any, Literal

from gleaner.core.errors import InputError
from gleaner.service.datasets import confined
from gleaner.service.http.state import Service
from gleaner.store.datasets import VersionFiles

Form = Literal["json", "csv", "parquet"]
MOST_BYTES: dict[Form, int] = {"json": 16 << 20, "csv": 256 << 20, "parquet": 256 << 20}
"""Of the values of one answer, before they are packed or written out."""

MOST_CELLS = 1_000_000
"""Of an answer as JSON."""


def run_query(
    service: Service, files: VersionFiles, sql: str, limit: int, form: Form, *, exact: bool = False
) -> IO[bytes]:
    """Run a SELECT; gives the file of its answer, which is gone when it is closed.

    exact: CSV cells that a spreadsheet would run stay as they are. Raises InputError when the query is wrong, writes,
    reads what it may not, or takes too long or too much; UnavailableError while too many run.
    """
    places = confined.acquire()
    try:
        service.settings.staging.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(prefix=f"query-{os.getpid()}-", dir=service.settings.staging) as folder:
            out = Path(folder) / f"rows.{form}"
            query = {"sql": sql, "limit": limit, "form": form, "exact": exact, "out": str(out)}
            _run(service, files, query, out.parent)
            return out.open("rb")
    finally:
        places.release()


def _run(service: Service, files: VersionFiles, query: dict[str, Any], folder: Path) -> None:
    settings = service.settings
    digests = {"interactions": files.interactions_file, "items": files.items_file, "users": files.users_file}
    tables = {name: str(service.artefacts.local_path(digest)) for name, digest in digests.items() if digest}
    query |= {
        "tables": tables,
        "most_bytes": MOST_BYTES[query["form"]],
        "most_cells": MOST_CELLS,
        "memory_mb": settings.query_memory_mb,
        "seconds": settings.query_seconds,
        "threads": min(2, os.cpu_count() or 1),
    }
    bounds: dict[str, Any] = {"seconds": settings.query_seconds, "memory_mb": settings.query_memory_mb}
    outcome = confined.run("gleaner.service.datasets.sql_child", query, folder, what="the query", where="sql", **bounds)
    if "error" in outcome:
        raise InputError(outcome["error"] + _hint(outcome["error"], tables), where="sql")


def _hint(error: str, tables: dict[str, str]) -> str:
    for name in ("items", "users"):
        if f"Table with name {name} does not exist" in error and name not in tables:
            return f"; this version has no {name} table"
    return ""
