"""The process that runs one SQL query of a user: read-only, no files but the version's own, no network, bounded in time
and memory, without our environment. Started by `queries`."""

from __future__ import annotations

import json
import re
import time
from pathlib import Path
from typing import Any

import duckdb
import pyarrow as pa
import pyarrow.parquet as pq

from gleaner.service.datasets.confinement import confine

BATCH = 1 << 15
ALLOWED = "a query reads the tables interactions, items and users, and nothing else"
INTERNAL_NAMES = re.compile(
    r"(?:duckdb|pragma|sqlite|parquet|read|sniff|which)_\w+|glob|getenv|current_setting|query|query_table"
    r"|information_schema|pg_\w+",
    re.IGNORECASE,
)
"""Functions, views and schemas that show paths and settings of the engine, or read files."""

NAMES = {"function_name", "table_name", "schema_name", "catalog_name"}
"""Keys of a parsed query whose values name what it reads."""

OVERHEAD_MB = 512
"""Beside what the engine may use: rows on their way out, and stacks of threads."""


def outcome_of(query: dict[str, Any]) -> dict[str, Any]:
    """Run it and write its rows to a file. Answers how many there were, or what is wrong."""
    confine(memory_mb=query["memory_mb"] + OVERHEAD_MB, seconds=query["seconds"], threads=query["threads"])
    try:
        return _run(query)
    except duckdb.OutOfMemoryException:
        return {"error": f"the query needs more than {query['memory_mb']} MB; make it smaller", "kind": "memory"}
    except duckdb.PermissionException:
        return {"error": ALLOWED, "kind": "denied"}
    except duckdb.Error as error:
        return {"error": _plain(str(error)), "kind": "sql"}
    except MemoryError:
        return {"error": f"the query needs more than {query['memory_mb']} MB; make it smaller", "kind": "memory"}


def _engine(query: dict[str, Any]) -> duckdb.DuckDBPyConnection:
    engine = duckdb.connect(":memory:")
    files = [query["tables"][name] for name in query["tables"]]
    settings = [
        f"threads={query['threads']}",
        f"memory_limit='{query['memory_mb']}MB'",
        "temp_directory=''",
        "TimeZone='UTC'",
        "autoinstall_known_extensions=false",
        "autoload_known_extensions=false",
        f"allowed_paths=[{', '.join(_text(path) for path in files)}]",
        "enable_external_access=false",
    ]
    for setting in settings:
        engine.execute(f"SET {setting}")
    for name, path in query["tables"].items():
        engine.execute(f"CREATE VIEW {name} AS SELECT * FROM read_parquet({_text(path)})")
    engine.execute("SET lock_configuration=true")
    return engine


def _text(value: str) -> str:
    return "'" + value.replace("'", "''") + "'"


def _run(query: dict[str, Any]) -> dict[str, Any]:
    begun = time.perf_counter()
    engine = _engine(query)
    if inner := _internal_name(engine, query["sql"]):
        return {"error": f"{inner} shows the engine itself; {ALLOWED}", "kind": "denied"}
    statements = engine.extract_statements(query["sql"])
    if len(statements) != 1:
        return {"error": f"one SELECT is run at a time; this is {len(statements)} statements", "kind": "sql"}
    if statements[0].type != duckdb.StatementType.SELECT:
        what = str(statements[0].type).rpartition(".")[2]
        return {"error": f"only a SELECT can be run, and nothing is ever written; this is {what}", "kind": "denied"}
    reader: pa.RecordBatchReader = engine.execute(statements[0]).to_arrow_reader(BATCH)
    if query["form"] != "parquet":
        return _as_text(reader, query, begun)
    rows, size, cut = 0, 0, False
    with pq.ParquetWriter(Path(query["out"]), _unique(reader.schema), compression="zstd") as writer:
        for batch in reader:
            left = query["limit"] - rows
            cut = batch.num_rows > left
            kept = batch.slice(0, left)
            size += kept.nbytes
            if size > query["most_bytes"]:
                return _too_large(query)
            writer.write_table(pa.Table.from_arrays(kept.columns, schema=_unique(kept.schema)))
            rows += kept.num_rows
            if cut:
                break
    return {"rows": rows, "cut": cut, "seconds": time.perf_counter() - begun}


def _internal_name(engine: duckdb.DuckDBPyConnection, sql: str) -> str | None:
    """Return the first name in a query that shows the engine instead of data; None where there is none."""
    row = engine.execute("SELECT json_serialize_sql(?)", [sql]).fetchone()
    parsed = json.loads(row[0]) if row else {}
    if parsed.get("error", True):
        # a statement of another sort, or none at all: what runs it says so, unless it names what it must not
        words = re.findall(r'(\w+)"?\s*\(|\b((?:duckdb|pragma|sqlite|pg|information)_\w+)', sql)
        return next((word for pair in words for word in pair if INTERNAL_NAMES.fullmatch(word)), None)
    waiting: list[Any] = [parsed]
    while waiting:
        node = waiting.pop()
        if isinstance(node, dict):
            for key, value in node.items():
                if key in NAMES and isinstance(value, str) and INTERNAL_NAMES.fullmatch(value):
                    return value
            waiting += node.values()
        elif isinstance(node, list):
            waiting += node
    return None


def _as_text(reader: pa.RecordBatchReader, query: dict[str, Any], begun: float) -> dict[str, Any]:
    """Write the answer as CSV or JSON. JSON is cut at so many bytes and cells, where rows came before."""
    import polars as pl

    from gleaner.service.tables.forms import json_rows, to_csv

    parts: list[pa.RecordBatch] = []
    rows, size, cut = 0, 0, False
    limit = query["limit"]
    if query["form"] == "json":
        limit = min(limit, max(1, query["most_cells"] // max(1, len(reader.schema))))
    for batch in reader:
        kept = batch.slice(0, limit - rows)
        cut = batch.num_rows > kept.num_rows
        if size + kept.nbytes > query["most_bytes"]:
            return _too_large(query)
        parts.append(kept)
        rows, size = rows + kept.num_rows, size + kept.nbytes
        if cut:
            break
    frame = pl.DataFrame(
        pl.from_arrow(pa.Table.from_batches(parts, reader.schema).rename_columns(_names(reader.schema)))
    )
    out = Path(query["out"])
    if query["form"] == "csv":
        out.write_bytes(to_csv(frame, exact=query["exact"]))
    else:
        answer = {
            "columns": frame.columns,
            "types": [str(kind).lower() for kind in frame.dtypes],
            "rows": json_rows(frame),
            "cut": cut,
            "seconds": time.perf_counter() - begun,
        }
        out.write_text(json.dumps(answer, ensure_ascii=False), encoding="utf-8")
    return {}


def _too_large(query: dict[str, Any]) -> dict[str, Any]:
    most = query["most_bytes"] >> 20
    return {"error": f"the answer is larger than {most} MB; ask for fewer rows or columns", "kind": "memory"}


def _names(schema: pa.Schema) -> list[str]:
    """Two columns of one name are told apart by a number."""
    names: list[str] = []
    for name in schema.names:
        number, fresh = 1, name
        while fresh in names:
            number += 1
            fresh = f"{name}_{number}"
        names.append(fresh)
    return names


def _unique(schema: pa.Schema) -> pa.Schema:
    return pa.schema([field.with_name(name) for field, name in zip(schema, _names(schema), strict=True)])


def _plain(text: str) -> str:
    """The engine's message on one line, without its drawing of the place."""
    lines = [line.strip() for line in text.split("\n") if line.strip()]
    shown = [line for line in lines if not line.startswith(("LINE", "^", "Candidate bindings"))]
    return " ".join(shown[:3]).partition(" Error: ")[2] or " ".join(shown[:3])
