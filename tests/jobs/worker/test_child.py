"""What a job's process says where its database is not there."""

from __future__ import annotations

from typing import get_args

import psycopg
import pytest
from sqlalchemy.exc import OperationalError

from gleaner.jobs.worker import child
from gleaner.launch.ports import free_port
from gleaner.store.database.outages import is_unavailable
from gleaner.wire.jobs import JobKind


class RefusedError(psycopg.Error):
    """A statement that the server refused, for a reason by its code."""

    def __init__(self, sqlstate: str) -> None:
        super().__init__(sqlstate)
        self.sqlstate = sqlstate


def test_a_database_that_is_away_is_no_failure_of_the_job(monkeypatch, tmp_path):
    monkeypatch.setenv("GLEANER_HOME", str(tmp_path))
    monkeypatch.setenv("GLEANER_DATABASE_URL", f"postgresql://gleaner:x@127.0.0.1:{free_port()}/gleaner")
    monkeypatch.setattr(child.logs, "set_up", lambda: None)
    assert child.main(1) == child.DATABASE_LOST


def test_every_kind_of_job_can_be_asked_for():
    assert set(get_args(JobKind)) == set(child.KINDS)


@pytest.mark.parametrize(
    ("error", "lost"),
    [
        (OperationalError("q", None, Exception("refused")), True),
        (OperationalError("q", None, RefusedError("57P01")), True),
        (OperationalError("q", None, RefusedError("08006")), True),
        (OperationalError("q", None, RefusedError("54000")), False),
        (OperationalError("q", None, RefusedError("53100")), False),
        (OperationalError("q", None, RefusedError("54000"), connection_invalidated=True), True),
    ],
)
def test_only_what_a_connection_does_counts_as_lost(error, lost):
    assert is_unavailable(error) == lost


def test_a_job_whose_rows_were_rewritten_meanwhile_says_so():
    """The file of a version goes when a user is forgotten, and whoever reads it at that moment gives way."""
    gone = FileNotFoundError("No such file or directory (os error 2): /home/x/artefacts/05/0574")
    problem = child.missing_file_problem(gone, "/home/x/artefacts")
    assert (problem.type, problem.status) == ("urn:gleaner:problem:conflict", 409)
    assert "rewritten or removed meanwhile: a user was forgotten" in problem.detail
    other = child.missing_file_problem(FileNotFoundError(2, "No such file", "/elsewhere"), "/home/x/artefacts")
    assert (other.type, other.detail) == ("urn:gleaner:problem:storage", "No such file (/elsewhere)")
