"""Small files that unfold into much: answers stay short, jobs stay within their memory, and both say so."""

from __future__ import annotations

import io

import numpy as np
import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from gleaner.client import JobFailedError, RefusedError, calls
from gleaner.service.datasets.file_inspection import CELL_CHARACTERS, cut
from gleaner.wire.imports import ImportRequest, ProposalRequest, Roles
from stack import Stack, wait_for


@pytest.fixture(scope="module")
def small() -> Stack:
    """A Gleaner whose jobs may take 400 MB."""
    running = Stack(job_memory_mb=400)
    yield running
    running.stop()


def unfolding_file(n_rows: int = 40_000, n_bytes: int = 100_000) -> bytes:
    """A Parquet file of some kilobytes: one long text, in a dictionary, in every row."""
    texts = pa.DictionaryArray.from_arrays(pa.array(np.zeros(n_rows, np.int32)), pa.array(["x" * n_bytes]))
    users = pa.DictionaryArray.from_arrays(pa.array(np.zeros(n_rows, np.int32)), pa.array(["u"]))
    out = io.BytesIO()
    pq.write_table(pa.table({"user": users, "item": users, "text": texts}), out, compression="zstd", store_schema=False)
    return out.getvalue()


def test_a_job_that_needs_too_much_memory_fails_and_says_so(small):
    content = unfolding_file()
    assert len(content) < 50_000
    request = ImportRequest(
        interactions=small.send_text(content, "unfolding.parquet"),
        roles=Roles(user="user", item="item", context=["text"]),
    )
    with pytest.raises(JobFailedError, match="the job needs more than 400 MB"):
        small.client.wait(small.client.send(calls.import_version("unfolding", request)).id)
    # and the next one finds everything as it was
    assert small.add("small", "user,item\nu1,i1\nu2,i2\n", Roles(user="user", item="item")).rows == 2
    # the end of a job is committed before its staging folder is removed
    wait_for(lambda: not any("job-" in path for path in small.files()))


def test_looking_into_a_file_cuts_long_cells(demo):
    table = pl.DataFrame({"user": ["u1", "u2"], "item": ["i1", "i2"], "note": ["n" * 50_000, "short"]})
    out = io.BytesIO()
    table.write_parquet(out)
    source = demo.send_text(out.getvalue(), "long.parquet")
    proposal = demo.client.send(calls.propose(ProposalRequest(interactions=source)))
    [file] = proposal.files
    assert [len(cell) for cell in file.preview[0]] == [2, 2, CELL_CHARACTERS]
    assert file.preview[1][2] == "short"
    assert max(len(text) for column in file.columns for text in column.examples) == CELL_CHARACTERS


def test_a_cell_that_is_cut_ends_in_dots():
    assert cut("a" * CELL_CHARACTERS) == "a" * CELL_CHARACTERS
    assert cut("a" * (CELL_CHARACTERS + 1)) == "a" * (CELL_CHARACTERS - 1) + "\u2026"


@pytest.mark.parametrize(
    ("sql", "name"),
    [
        ("SELECT * FROM duckdb_settings()", "duckdb_settings"),
        ('SELECT * FROM "duckdb_settings" ()', "duckdb_settings"),
        ("SELECT sql FROM duckdb_views", "duckdb_views"),
        ("SELECT * FROM (SELECT * FROM duckdb_views()) v", "duckdb_views"),
        ("SELECT * FROM information_schema.tables", "information_schema"),
        ("SELECT * FROM sqlite_master", "sqlite_master"),
        ("SELECT current_setting('allowed_paths')", "current_setting"),
        ("SELECT * FROM query('FROM duckdb_views()')", "query"),
        ("SELECT * FROM read_parquet('/etc/*')", "read_parquet"),
        ("DESCRIBE SELECT * FROM duckdb_settings()", "duckdb_settings"),
    ],
)
def test_a_query_shows_nothing_of_the_engine(demo, sql, name):
    with pytest.raises(RefusedError, match=f"{name} shows the engine itself; a query reads the tables interactions"):
        demo.client.send(calls.query("seeds", 1, sql))


def test_a_column_may_be_called_like_a_function_of_the_engine(demo):
    answer = demo.client.send(calls.query("seeds", 1, "SELECT 1 AS read_count, 2 AS duckdb_size FROM items LIMIT 1"))
    assert answer.rows == [[1, 2]]


@pytest.mark.parametrize("url", ["ftp://169.254.169.254/x.csv", "sftp://127.0.0.1/x", "smb://h/x", "jar:http://h/x"])
def test_other_schemes_than_those_that_are_looked_at_are_refused(demo, url):
    source = {"url": url, "file": "x.csv"}
    answer = demo.http.post("/v1/proposals", json={"interactions": source})
    assert (answer.status_code, "URLs are not taken" in answer.text or "names no place" in answer.text) == (422, True)


def test_ids_that_no_index_holds_are_refused_in_an_import(demo):
    rows = "user,item\nu1,i1\n" + "\u2618" * 334 + ",i2\n"
    request = ImportRequest(interactions=demo.send_text(rows, "long.csv"), roles=Roles(user="user", item="item"))
    with pytest.raises(JobFailedError, match="is empty or has more than 1,000 bytes"):
        demo.client.wait(demo.client.send(calls.import_version("long-ids", request)).id)


def test_an_arrow_file_whose_column_names_are_no_text_is_refused_in_words(demo):
    table = pa.table({"user": ["u1", "u2"], "item": ["i1", "i2"]})
    out = io.BytesIO()
    with pa.ipc.new_file(out, table.schema) as writer:
        writer.write_table(table)
    damaged = out.getvalue().replace(b"user", b"us\xff\xfe")
    request = ImportRequest(interactions=demo.send_text(damaged, "rows.arrow"), roles=Roles(user="user", item="item"))
    with pytest.raises(JobFailedError, match=r"rows\.arrow is damaged: the name of a column is not UTF-8"):
        demo.client.wait(demo.client.send(calls.import_version("damaged", request)).id)
