"""Tables, artefact files and the rules of jobs, on real PostgreSQL."""

from __future__ import annotations

import os
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
import pytest
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy import Connection, Engine, text

from gleaner.core.errors import ConflictError, DataError, InputError, UnknownNameError
from gleaner.store import idempotency, jobs, keys, served_lists
from gleaner.store.database.engine import make_engine, migrate
from gleaner.store.database.pages import after_cursor, after_id, cursor_of
from gleaner.store.database.tables import metadata
from gleaner.store.files import job_files
from gleaner.store.files.artefacts import Artefact, ArtefactStore, record, release, sha256_of
from gleaner.store.files.pins import Pins, removals_held
from gleaner.wire.common import Problem
from gleaner.wire.jobs import JobState
from gleaner.wire.keys import KeyRequest, Scope
from gleaner.wire.names import split_name


@pytest.fixture(scope="module")
def engine(stack) -> Iterator[Engine]:
    new_engine = make_engine(stack.database_url)
    yield new_engine
    new_engine.dispose()


@pytest.fixture
def connection(engine: Engine) -> Iterator[Connection]:
    """A transaction that is rolled back."""
    with engine.connect() as opened:
        yield opened
        opened.rollback()


def test_migrations_make_the_tables_and_may_run_again(engine):
    migrate(engine)
    with engine.connect() as connection:

        def ours(name, kind, _):
            return kind != "table" or not str(name).startswith("procrastinate_")

        context = MigrationContext.configure(connection, opts={"include_name": ours})
        assert compare_metadata(context, metadata) == []


@pytest.mark.parametrize(("text", "expected"), [("seeds", ("seeds", None)), ("seeds@12", ("seeds", 12))])
def test_names_are_split(text, expected):
    assert split_name(text, "dataset") == expected


@pytest.mark.parametrize(
    "text", ["", "@1", "seeds@", "seeds@0", "seeds@-1", "seeds@1.5", "seeds@\u0661", "seeds@9999999999"]
)
def test_names_that_are_none_are_refused(text):
    with pytest.raises(InputError, match="does not name a dataset"):
        split_name(text, "dataset")


def test_cursors_come_back_and_foreign_ones_are_refused():
    assert after_cursor(cursor_of("\U0001f331 seeds")) == "\U0001f331 seeds"
    assert after_id(cursor_of(17)) == 17
    for wrong in ("%%%", "x", cursor_of("word")):
        with pytest.raises(InputError, match="is not one this service gave"):
            after_id(wrong)


def store_at(path: Path) -> ArtefactStore:
    return ArtefactStore(str(path / "root"), path / "cache")


def test_the_same_bytes_are_kept_once(tmp_path):
    store = store_at(tmp_path)
    actual = []
    for name in ("a", "b"):
        (tmp_path / name).write_bytes(b"leaf" * 1000)
        actual.append(store.put(tmp_path / name, "parquet"))
        assert not (tmp_path / name).exists()
    assert actual[0] == actual[1]
    kept = [path for path in (tmp_path / "root").rglob("*") if path.is_file()]
    assert [path.name for path in kept] == [actual[0].sha256] == [sha256_of(kept[0])]


def test_arrays_come_back_mapped_and_damage_is_noticed(tmp_path):
    store = store_at(tmp_path)
    arrays = {
        "floats": np.arange(6, dtype=np.float32).reshape(2, 3), "bytes": np.array([1, 2, 3], np.uint8),
        "longs": np.array([2**40]), "nothing": np.empty((0, 4), np.float32), "flags": np.array([True, False]),
    }  # fmt: skip
    kept = store.put_arrays(arrays, tmp_path)
    actual = store.load_arrays(kept.sha256)
    for name, array in arrays.items():
        np.testing.assert_array_equal(actual[name], array)
        assert actual[name].dtype == array.dtype
    assert isinstance(actual["floats"].base, np.memmap)
    del actual
    path = store.local_path(kept.sha256)
    path.write_bytes(path.read_bytes()[:-1] + b"?")
    with pytest.raises(DataError, match="is damaged: its bytes do not match its hash"):
        store.load_arrays(kept.sha256)


def test_a_missing_artefact_is_named(tmp_path):
    with pytest.raises(DataError, match="artefact 0123456789ab is missing"):
        store_at(tmp_path).local_path("0123456789abcdef")


def test_a_remote_root_is_fetched_to_a_cache(tmp_path):
    store = ArtefactStore("memory://artefacts", tmp_path / "cache")
    (tmp_path / "a").write_bytes(b"far away")
    kept = store.put(tmp_path / "a", "parquet")
    assert store.local_path(kept.sha256).read_bytes() == b"far away"
    assert store.local_path(kept.sha256).parent == tmp_path / "cache"


def put_text(store: ArtefactStore, folder: Path, content: bytes) -> Artefact:
    (folder / "file").write_bytes(content)
    return store.put(folder / "file", "parquet")


def test_the_sweep_takes_old_files_that_no_row_points_at(tmp_path, engine):
    store = store_at(tmp_path)
    with_row, old, young = (put_text(store, tmp_path, text) for text in (b"with a row", b"old", b"young"))
    for artefact in (with_row, old):
        os.utime(store.local_path(artefact.sha256), (0, 0))
    with engine.begin() as connection:
        record(connection, with_row)
    sweeper = ArtefactStore(str(tmp_path / "root"), tmp_path / "cache", Pins(engine))
    assert sweeper.sweep(engine) == 1
    assert store.local_path(with_row.sha256).exists()
    assert store.local_path(young.sha256).exists()
    with pytest.raises(DataError):
        store.local_path(old.sha256)
    with engine.begin() as connection:
        release(connection, [with_row.sha256])


def test_a_file_that_is_put_again_while_it_is_removed_stays(tmp_path, engine):
    """Its last reference goes, its row goes, and before the file goes somebody puts the same bytes again."""
    root, cache = str(tmp_path / "root"), tmp_path / "cache"
    remover, putter = (ArtefactStore(root, cache, Pins(engine)) for _ in range(2))
    kept = put_text(ArtefactStore(root, cache), tmp_path, b"the same bytes")
    with engine.begin() as connection:
        record(connection, kept)
    with engine.begin() as connection:
        assert release(connection, [kept.sha256]) == [kept.sha256]
    again = put_text(putter, tmp_path, b"the same bytes")
    assert remover.remove_files([kept.sha256]) == 0
    with engine.begin() as connection:
        record(connection, again)
    assert putter.pins is not None
    putter.pins.close()
    assert remover.remove_files([kept.sha256]) == 0
    assert putter.local_path(again.sha256).read_bytes() == b"the same bytes"
    with engine.begin() as connection:
        release(connection, [again.sha256])


def test_no_file_goes_while_a_backup_is_made(tmp_path, engine, stack):
    store = ArtefactStore(str(tmp_path / "root"), tmp_path / "cache", Pins(engine))
    kept = put_text(ArtefactStore(str(tmp_path / "root"), tmp_path / "cache"), tmp_path, b"wanted by a backup")
    with removals_held(stack.database_url):
        assert store.remove_files([kept.sha256]) == 0
    assert store.remove_files([kept.sha256]) == 1


def test_the_file_of_a_job_outlives_the_sweep(tmp_path, engine):
    store = ArtefactStore(str(tmp_path / "root"), tmp_path / "cache", Pins(engine))
    kept = put_text(ArtefactStore(str(tmp_path / "root"), tmp_path / "cache"), tmp_path, b"lists of a job")
    with engine.begin() as connection:
        job_id = jobs.add(connection, "lists", "x", {})
        job_files.add(connection, job_id, "main", kept, None)
        connection.execute(text("UPDATE artefacts SET created_at = '2020-01-01' WHERE sha256 = :d"), {"d": kept.sha256})
    os.utime(store.local_path(kept.sha256), (0, 0))
    assert store.sweep(engine) == 0
    with engine.begin() as connection:
        assert job_files.digest_of(connection, job_id, "main") == kept.sha256
        connection.execute(text("DELETE FROM jobs WHERE id = :id"), {"id": job_id})
    assert store.sweep(engine) == 1


def test_answers_to_repeats_belong_to_one_caller(connection):
    idempotency.remember(connection, "ann", "k", "request", 201, {"of": "ann"})
    assert idempotency.recall(connection, "ben", "k", "another request") is None
    idempotency.remember(connection, "ben", "k", "another request", 201, {"of": "ben"})
    assert idempotency.recall(connection, "ann", "k", "request") == (201, {"of": "ann"})


def test_what_is_out_of_date_is_removed(connection):
    idempotency.remember(connection, "ann", "old", "r", 201, {})
    connection.execute(text("UPDATE idempotency SET created_at = now() - interval '3 days' WHERE key = 'old'"))
    idempotency.remember(connection, "ann", "new", "r", 201, {})
    assert idempotency.prune(connection) >= 1
    assert idempotency.recall(connection, "ann", "old", "r") is None
    assert idempotency.recall(connection, "ann", "new", "r") == (201, {})
    for number, days in enumerate((2, 20)):
        at = datetime.now(UTC) - timedelta(days=days)
        row = served_lists.ServedRow(f"prune-{number}", "s", 1, None, ["a"], None, at)
        served_lists.add_all(connection, [row])
    served_lists.prune(connection, 10)
    assert served_lists.get(connection, "prune-0").shelf == "s"
    with pytest.raises(UnknownNameError):
        served_lists.get(connection, "prune-1")


@pytest.mark.parametrize("key", ["9" * 19, "9" * 5000, "-1", "1.0", "\u0661", ""])
def test_a_cursor_that_was_tampered_with_is_refused(key):
    with pytest.raises(InputError, match="is not one this service gave"):
        after_id(cursor_of(key))


def test_a_cursor_holds_no_nul():
    with pytest.raises(InputError, match="is not one this service gave"):
        after_cursor(cursor_of("seeds\0"))


def test_a_job_goes_from_queued_to_done_once(connection):
    job_id = jobs.add(connection, "import", "x", {})
    claim = jobs.claim(connection, job_id, 3)
    assert claim.attempt == 1
    assert jobs.advance(connection, claim, 0.5, "half") is True
    assert jobs.get(connection, job_id).progress == 0.5
    assert jobs.finish(connection, claim, JobState.DONE, result={"a": 1}) is True
    assert jobs.finish(connection, claim, JobState.FAILED) is False
    assert jobs.claim(connection, job_id, 3) is None
    ended = jobs.get(connection, job_id)
    assert (ended.state, ended.progress, ended.result) == (JobState.DONE, 1.0, {"a": 1})


def test_an_attempt_that_was_given_up_on_changes_nothing(connection):
    job_id = jobs.add(connection, "import", "x", {})
    stale = jobs.claim(connection, job_id, 3)
    jobs.requeue(connection, job_id, lost=True)
    current = jobs.claim(connection, job_id, 3)
    assert jobs.advance(connection, stale, 0.9, "ghost") is False
    assert jobs.finish(connection, stale, JobState.DONE) is False
    with pytest.raises(ConflictError, match="attempt 1 of job"):
        jobs.require_current(connection, stale)
    jobs.require_current(connection, current)
    assert jobs.get(connection, job_id).message == ""


def test_a_job_that_keeps_losing_its_worker_fails_with_the_reason(connection):
    job_id = jobs.add(connection, "import", "x", {})
    for _ in range(2):
        assert jobs.claim(connection, job_id, 2) is not None
        jobs.requeue(connection, job_id, lost=True)
    assert jobs.claim(connection, job_id, 2) is None
    ended = jobs.detail(connection, job_id)
    assert ended.state is JobState.FAILED
    assert "the worker was lost 2 times" in ended.problem.detail
    assert any("attempt 2 begins" in line.text for line in ended.log)


def test_stopping_a_worker_is_not_losing_it(connection):
    job_id = jobs.add(connection, "import", "x", {})
    for _ in range(4):
        assert jobs.claim(connection, job_id, 1) is not None
        jobs.requeue(connection, job_id, lost=False)


def test_cancelling(connection):
    queued, running = (jobs.add(connection, "import", "x", {}) for _ in range(2))
    claim = jobs.claim(connection, running, 3)
    assert jobs.request_cancel(connection, queued).state is JobState.CANCELLED
    assert jobs.request_cancel(connection, running).state is JobState.RUNNING
    assert jobs.advance(connection, claim, 0.1, "") is False
    problem = Problem(type="x", title="x", status=500, detail="died")
    assert jobs.fail_attempt(connection, running, claim.attempt, problem)
    assert jobs.get(connection, running).state is JobState.CANCELLED
    with pytest.raises(ConflictError, match="has ended already"):
        jobs.request_cancel(connection, queued)
    with pytest.raises(UnknownNameError, match="there is no job 99999999"):
        jobs.request_cancel(connection, 99_999_999)


def test_only_the_hash_of_a_key_is_kept(connection):
    key = keys.create(connection, KeyRequest(name="a-key", scopes=[Scope.SERVE, Scope.SERVE]))
    assert keys.known(connection, key.secret).scopes == {Scope.SERVE}
    assert keys.known(connection, key.secret + "x") is None
    stored = connection.exec_driver_sql("SELECT * FROM keys WHERE name = 'a-key'").one()
    assert key.secret not in str(stored)
    with pytest.raises(ConflictError, match="there is a key named 'a-key' already"):
        keys.create(connection, KeyRequest(name="a-key", scopes=[Scope.SERVE]))
    keys.revoke(connection, "a-key")
    assert keys.known(connection, key.secret) is None


def test_an_idempotency_key_belongs_to_one_request(connection):
    assert idempotency.recall(connection, "", "k", "request") is None
    idempotency.remember(connection, "", "k", "request", 202, {"job": 1})
    assert idempotency.recall(connection, "", "k", "request") == (202, {"job": 1})
    with pytest.raises(ConflictError, match="was used for another request"):
        idempotency.recall(connection, "", "k", "another")


def test_served_lists_keep_ids_of_any_spelling(connection):
    odd = ["plain", 'say "so"', "back\\slash", "a,b", "{c}", "", "NULL", " blank ", "tab\tline\nend", "Grünkohl ☘"]
    at = datetime(2026, 3, 1, tzinfo=UTC)
    rows = [
        served_lists.ServedRow(f"list-{place}", "s", 1, None, items, None, at) for place, items in enumerate(([], odd))
    ]
    served_lists.add_all(connection, rows)
    assert served_lists.get(connection, "list-0").items == []
    assert served_lists.get(connection, "list-1").items == odd
