"""Whoever has no key costs next to nothing: every route is tried with a megabyte, and the memory looked at."""

from __future__ import annotations

import json

import pytest

from gleaner.jobs.worker.memory import resident_bytes
from gleaner.service.http.describe import description
from stack import Stack

FIELDS = json.dumps({f"field-{number:06}": number for number in range(40_000)}).encode()
GROWTH_BYTES = 60 * 2**20
"""Of the whole process over all routes: what one body takes when it is parsed is more."""


@pytest.fixture(scope="module")
def closed():
    """A Gleaner that wants keys."""
    running = Stack(auth="required")
    yield running
    running.stop()


def test_no_route_reads_a_body_of_somebody_without_a_key(closed):
    assert len(FIELDS) > 900_000
    pid = closed.process("web service").pid
    headers = {"content-type": "application/json"}
    closed.http.post("/v1/session", content=b"{}", headers=headers)
    before, tried = resident_bytes(pid), 0
    for path, methods in description()["paths"].items():
        for method in methods:
            filled = path.replace("{number}", "1").replace("{job}", "1")
            if method in ("get", "delete"):
                answer = closed.http.request(method, filled)
            else:
                answer = closed.http.request(method, filled, content=FIELDS, headers=headers)
                tried += 1
            assert answer.status_code in ((413,) if path == "/v1/session" and method == "post" else (200, 401)), path
    assert tried > 30
    assert resident_bytes(pid) - before < GROWTH_BYTES
