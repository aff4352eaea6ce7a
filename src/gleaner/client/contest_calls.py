"""Contests and their runs, as calls."""

from __future__ import annotations

from gleaner.client.call import Call, get, quoted
from gleaner.wire.common import Page
from gleaner.wire.contests import FileRequest, Run, RunSummary


def run_contest(file: FileRequest, idempotency_key: str | None = None) -> Call[Run]:
    """Run a contest file."""
    return Call("POST", "/v1/contests", Run, body=file, idempotency_key=idempotency_key)


def list_runs(after: str | None = None, limit: int | None = None) -> Call[Page[RunSummary]]:
    """Runs, newest first."""
    return get("/v1/contests", Page[RunSummary], after=after, limit=limit)


def run(name: str) -> Call[Run]:
    """One run with its leaderboard."""
    return get(f"/v1/contests/{quoted(name)}", Run)
