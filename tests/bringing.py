"""What tests of imports share: bring data in, be refused, a database to bring it from."""

from __future__ import annotations

import psycopg
import pytest

from gleaner.client import JobFailedError, calls
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.imports import ImportRequest, Roles
from stack import Stack

RATED = Roles(user="user", item="item", value="value")


TIMED = Roles(user="user", item="item", value="value", time="time")


def bring(stack: Stack, name: str, request: ImportRequest):
    job = stack.client.wait(stack.client.send(calls.import_version(name, request)).id)
    return stack.client.send(calls.dataset_version(name, int(job.result["version"].split("@")[1])))


def refused(stack: Stack, request: ImportRequest) -> str:
    with pytest.raises(JobFailedError) as caught:
        bring(stack, "never-made", request)
    assert stack.sql("SELECT 1 FROM datasets WHERE name = 'never-made'") == []
    return str(caught.value)


def csv_of(stack: Stack, text: str, **more) -> ImportRequest:
    return ImportRequest(interactions=stack.send_text(text, "rows.csv"), roles=more.pop("roles", RATED), **more)


def divided(stack: Stack, name: str, text: str):
    job = stack.client.send(calls.split_version(name, 1, FileRequest(file=text, name="plan.yaml")))
    stack.client.wait(job.id)
    return stack.client.send(calls.split_report(job.id))


def database(stack: Stack) -> str:
    with psycopg.connect(stack.database_url, autocommit=True) as connection:
        connection.execute("CREATE SCHEMA IF NOT EXISTS shop")
        connection.execute("DROP TABLE IF EXISTS shop.orders")
        connection.execute("CREATE TABLE shop.orders (member bigint, sku text, stars int, at timestamptz)")
        connection.execute(
            "INSERT INTO shop.orders VALUES (7, '007', 5, '2026-03-01 09:30+00'), (8, 'x,\"y', NULL, NULL)"
        )
    return stack.database_url
