"""Parts of an export: each written once and whole, whichever attempt writes it."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pyarrow as pa
import pytest

from gleaner.core.data.ids import IdMap
from gleaner.core.errors import CancelledError
from gleaner.jobs.exports.parts import read_parts, work_out
from gleaner.jobs.exports.rows import with_ids
from gleaner.settings import Settings


@dataclass
class Work:
    """Seven parts; the attempt is stopped before one of them, or dies while it makes one."""

    dies_at: int | None = None
    n_parts: int = 7
    ids: dict[str, IdMap] = field(default_factory=lambda: {"user": IdMap(["a", "b"])})
    worked_out: list[int] = field(default_factory=list)

    def part(self, number: int) -> pa.Table:
        if number == self.dies_at:
            raise MemoryError
        self.worked_out.append(number)
        return pa.table({"user": pa.array([number, number + 1], pa.int32()), "score": [0.5 * number, -1.0]})


class Attempt:
    def __init__(self, home: Path, number: int, stops_at: int | None = None) -> None:
        self.settings = Settings(home=home)
        self.settings.staging.mkdir(exist_ok=True)
        self.claim = SimpleNamespace(id=9, attempt=number)
        self.messages: list[str] = []
        self.stops_at = stops_at

    def require_going(self, done: float, message: str) -> None:
        if self.stops_at is not None and message.startswith(f"part {self.stops_at} "):
            raise CancelledError
        self.messages.append(message)

    def log(self, text: str) -> None:
        self.messages.append(text)


def test_a_later_attempt_goes_on_after_the_last_whole_part(tmp_path):
    first, second, third = Work(dies_at=3), Work(), Work()
    with pytest.raises(MemoryError):
        work_out(Attempt(tmp_path, 1), first)
    (Settings(home=tmp_path).parts(9) / "000004.1").write_bytes(b"what a killed attempt was writing")
    with pytest.raises(CancelledError):
        work_out(Attempt(tmp_path, 2, stops_at=6), second)
    last = Attempt(tmp_path, 3)
    paths = work_out(last, third)
    assert (first.worked_out, second.worked_out, third.worked_out) == ([0, 1, 2], [3, 4], [5, 6])
    assert last.messages[0] == "5 of 7 parts are here from the attempt before"
    rows = pa.concat_tables(read_parts(last, paths, 0.9, "writing")).to_pylist()
    assert [row["user"] for row in rows] == [0, 1, 1, 2, 2, 3, 3, 4, 4, 5, 5, 6, 6, 7]
    assert [row["score"] for row in rows[::2]] == [0.5 * number for number in range(7)]


def test_parts_that_number_other_ids_are_made_again(tmp_path):
    work_out(Attempt(tmp_path, 1), Work())
    again = Work(ids={"user": IdMap(["a", "c", "b"])})
    work_out(Attempt(tmp_path, 2), again)
    assert again.worked_out == [0, 1, 2, 3, 4, 5, 6]


def test_ids_stand_where_rows_stood():
    ids = IdMap(["007", "7", "z"])
    table = with_ids(pa.table({"user": pa.array([2, 0, 2], pa.int32()), "score": np.ones(3)}), {"user": ids})
    assert table["user"].to_pylist() == ["z", "007", "z"]
    assert table.column_names == ["user", "score"]
