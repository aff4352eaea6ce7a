"""The process that runs one SQL query of a user: read-only, no files but the version's own, no network, bounded in time
and memory, without our environment. Started by `queries`; speaks JSON on its standard streams."""

from __future__ import annotations

import json
import sys
import time
from pathlib import Path
from typing import Any

import duckdb
import pyarrow as pa
import pyarrow.parquet as pq

from gleaner.service.datasets.confined import confine

BATCH = 1 << 15
OVERHEAD_MB = 512
"""Beside what the engine may use: rows on their way out, and stacks of threads."""


def main() -> None:
    """Read the request, run it, write the rows to a Parquet file and the outcome to standard output."""
    asked = json.load(sys.stdin)
    confine(memory_mb=asked["memory_mb"] + OVERHEAD_MB, seconds=asked["seconds"], threads=asked["threads"])
    try:
        outcome = _run(asked)
    except duckdb.OutOfMemoryException:
        outcome = {"error": f"the query needs more than {asked['memory_mb']} MB; make it smaller", "kind": "memory"}
    except duckdb.PermissionException:
        outcome = {
            "error": "a query reads the tables interactions, items and users, and nothing else",
            "kind": "denied",
        }
    except duckdb.Error as error:
        outcome = {"error": _plain(str(error)), "kind": "sql"}
    except MemoryError:
        outcome = {"error": f"the query needs more than {asked['memory_mb']} MB; make it smaller", "kind": "memory"}
    json.dump(outcome, sys.stdout)


def _engine(asked: dict[str, Any]) -> duckdb.DuckDBPyConnection:
    engine = duckdb.connect(":memory:")
    files = [asked["tables"][name] for name in asked["tables"]]
    settings = [
        f"threads={asked['threads']}",
        f"memory_limit='{asked['memory_mb']}MB'",
        "temp_directory=''",
        "TimeZone='UTC'",
        "autoinstall_known_extensions=false",
        "autoload_known_extensions=false",
        f"allowed_paths=[{', '.join(_text(path) for path in files)}]",
        "enable_external_access=false",
    ]
    for setting in settings:
        engine.execute(f"SET {setting}")
    for name, path in asked["tables"].items():
        engine.execute(f"CREATE VIEW {name} AS SELECT * FROM read_parquet({_text(path)})")
    engine.execute("SET lock_configuration=true")
    return engine


def _text(value: str) -> str:
    return "'" + value.replace("'", "''") + "'"


def _run(asked: dict[str, Any]) -> dict[str, Any]:
    begun = time.perf_counter()
    engine = _engine(asked)
    statements = engine.extract_statements(asked["sql"])
    if len(statements) != 1:
        return {"error": f"one SELECT is run at a time; this is {len(statements)} statements", "kind": "sql"}
    if statements[0].type != duckdb.StatementType.SELECT:
        what = str(statements[0].type).rpartition(".")[2]
        return {"error": f"only a SELECT can be run, and nothing is ever written; this is {what}", "kind": "denied"}
    reader: pa.RecordBatchReader = engine.execute(statements[0]).to_arrow_reader(BATCH)
    if asked["form"] != "parquet":
        return _as_text(reader, asked, begun)
    rows, size, cut = 0, 0, False
    with pq.ParquetWriter(Path(asked["out"]), _unique(reader.schema), compression="zstd") as writer:
        for batch in reader:
            left = asked["limit"] - rows
            cut = batch.num_rows > left
            kept = batch.slice(0, left)
            size += kept.nbytes
            if size > asked["most_bytes"]:
                return _too_large(asked)
            writer.write_table(pa.Table.from_arrays(kept.columns, schema=_unique(kept.schema)))
            rows += kept.num_rows
            if cut:
                break
    return {"rows": rows, "cut": cut, "seconds": time.perf_counter() - begun}


def _as_text(reader: pa.RecordBatchReader, asked: dict[str, Any], begun: float) -> dict[str, Any]:
    """Write the answer as CSV or JSON. JSON is cut at so many bytes and cells, where rows came before."""
    import polars as pl

    from gleaner.service.tables.forms import json_rows, to_csv

    parts: list[pa.RecordBatch] = []
    rows, size, cut = 0, 0, False
    limit = asked["limit"]
    if asked["form"] == "json":
        limit = min(limit, max(1, asked["most_cells"] // max(1, len(reader.schema))))
    for batch in reader:
        kept = batch.slice(0, limit - rows)
        cut = batch.num_rows > kept.num_rows
        if size + kept.nbytes > asked["most_bytes"]:
            return _too_large(asked)
        parts.append(kept)
        rows, size = rows + kept.num_rows, size + kept.nbytes
        if cut:
            break
    frame = pl.DataFrame(
        pl.from_arrow(pa.Table.from_batches(parts, reader.schema).rename_columns(_names(reader.schema)))
    )
    out = Path(asked["out"])
    if asked["form"] == "csv":
        out.write_bytes(to_csv(frame, exact=asked["exact"]))
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


def _too_large(asked: dict[str, Any]) -> dict[str, Any]:
    most = asked["most_bytes"] >> 20
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


if __name__ == "__main__":
    main()
