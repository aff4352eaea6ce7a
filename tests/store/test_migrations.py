"""Migrations keep what earlier releases recorded, and mean the same by it."""

from __future__ import annotations

from collections.abc import Iterator

import psycopg
import pytest
from alembic import command
from alembic.config import Config
from sqlalchemy import Connection, text

from gleaner.store.database.engine import MIGRATIONS, make_engine


@pytest.fixture
def database(stack) -> Iterator[Connection]:
    """A transaction on an empty database of its own, brought to the schema of the release before."""
    with psycopg.connect(stack.database_url, autocommit=True) as admin:
        admin.execute("DROP DATABASE IF EXISTS migrated")
        admin.execute("CREATE DATABASE migrated")
    engine = make_engine(stack.database_url.rpartition("/")[0] + "/migrated")
    with engine.begin() as connection:
        bring_to(connection, "0015")
        yield connection
    engine.dispose()
    with psycopg.connect(stack.database_url, autocommit=True) as admin:
        admin.execute("DROP DATABASE migrated")


def bring_to(connection: Connection, revision: str) -> None:
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    config.set_main_option("path_separator", "os")
    config.attributes["connection"] = connection
    command.upgrade(config, revision)


def add_version(connection: Connection, number: int, events_upto: int, made_at: str) -> None:
    values = {"number": number, "upto": events_upto, "at": made_at}
    connection.execute(
        text(
            "INSERT INTO versions (dataset_id, number, content_hash, roles, profile, report, item_columns, user_columns, "
            "events_upto, created_at) VALUES (1, :number, '', '{}', '{}', '{}', '[]', '[]', :upto, :at)"
        ),
        values,
    )


def add_event(connection: Connection, name: str, xact: int, received_at: str) -> None:
    connection.execute(
        text(
            "INSERT INTO events (dataset_id, id, source, user_id, item_id, at, received_at, xact) "
            "VALUES (1, :name, '', :name, 'i', :at, :at, :xact)"
        ),
        {"name": name, "xact": xact, "at": received_at},
    )


def taken_in(connection: Connection) -> dict[int, list[str]]:
    """Users of the events that each version holds, by the numbers of today."""
    rows = connection.execute(
        text(
            "SELECT v.number, array_agg(e.user_id ORDER BY e.seq) FILTER (WHERE e.seq <= v.events_upto) AS users "
            "FROM versions v CROSS JOIN events e GROUP BY v.number ORDER BY v.number"
        )
    )
    return {row.number: row.users or [] for row in rows}


def test_versions_hold_the_events_that_they_held(database):
    database.execute(text("INSERT INTO datasets (name) VALUES ('seeds')"))
    add_version(database, 1, 0, "2026-01-01")
    add_version(database, 2, 500, "2026-01-10")
    add_version(database, 3, 900, "2026-01-20")
    # began first and committed last: its number is low, and version 2 did not see its transaction
    add_event(database, "slow", 501, "2026-01-09")
    add_event(database, "first", 400, "2026-01-05")
    add_event(database, "second", 500, "2026-01-06")
    add_event(database, "later", 901, "2026-01-21")
    # came to another cluster after a restore, whose transactions have small numbers
    add_event(database, "restored", 7, "2026-02-01")
    bring_to(database, "head")
    assert taken_in(database) == {1: [], 2: ["first", "second"], 3: ["first", "second", "slow"]}
    database.execute(
        text("INSERT INTO events (dataset_id, id, source, user_id, item_id, at) VALUES (1,'n','','new','i',now())")
    )
    order = database.execute(text("SELECT user_id FROM events ORDER BY seq")).scalars().all()
    assert order[:3] == ["first", "second", "slow"]
    assert (set(order[3:5]), order[5]) == ({"later", "restored"}, "new")


def test_changed_cells_hold_beside_the_versions_that_they_held_beside(database):
    database.execute(text("INSERT INTO datasets (name) VALUES ('seeds')"))
    add_version(database, 1, 0, "2026-01-10")
    for name, at in (("after", "2026-01-11"), ("before", "2026-01-09")):
        values = {"name": name, "at": at}
        sql = "INSERT INTO column_changes (dataset_id, side, row_id, name, value, at) VALUES (1, 'item', 'i', :name, '1', :at)"
        database.execute(text(sql), values)
    bring_to(database, "head")
    sql = "SELECT c.name FROM column_changes c JOIN versions v ON v.dataset_id = c.dataset_id WHERE c.seq > v.changes_upto"
    assert database.execute(text(sql)).scalars().all() == ["after"]


def test_files_of_jobs_and_numbers_of_models_are_kept(database):
    digest, left_out = "a" * 64, "b" * 64
    database.execute(text("INSERT INTO artefacts (sha256, bytes, format) VALUES (:d, 1, 'parquet')"), {"d": digest})
    results = ('{"file": "%s"}' % digest, '{"left_out": {"file": "%s"}}' % left_out, "null", '{"left_out": null}')  # noqa: UP031
    for result in results:
        sql = "INSERT INTO jobs (kind, subject, payload, state, result) VALUES ('lists', 'm', '{}', 'done', :result)"
        database.execute(text(sql), {"result": result})
    bring_to(database, "head")
    # a file that was swept away has no row that could be referred to
    assert database.execute(text("SELECT part, artefact FROM job_files")).all() == [("main", digest)]
