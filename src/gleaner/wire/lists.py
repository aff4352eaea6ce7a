"""Recommendation lists made elsewhere, and their analysis."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from gleaner.wire.common import Label, Message, Name, UploadName
from gleaner.wire.contests.contest import PrepareSpec, SplitSpec
from gleaner.wire.contests.rank import RankSpec
from gleaner.wire.contests.runs import ContestComparison, Figure


class ListColumns(Message):
    """Which column is what, in a CSV or Parquet file of lists."""

    user: Label = "user"
    item: Label = "item"
    place: Label | None = Field(None, description="Lowest first. Left out: a column place, position or rank.")
    score: Label | None = Field(None, description="Highest first. With neither, rows stand in the order of each list.")


class ScoreListsRequest(Message):
    """Score lists against a dataset's test part, alone or beside the contenders of a run."""

    upload: UploadName = Field(description="What /v1/uploads answered.")
    file: Label = Field("lists", description="What the file is called in messages.")
    label: Name = "lists"
    columns: ListColumns = ListColumns()
    beside: Label | None = Field(None, description="A run: its data, preparation, split, metrics and contenders.")
    data: Label | None = Field(None, description="Without a run: a dataset version.")
    prepare: PrepareSpec = PrepareSpec()
    split: SplitSpec = SplitSpec()
    rank: RankSpec = RankSpec()
    seed: int = Field(1, ge=0, lt=2**63)
    drop_known: bool = Field(False, description="Take out items the user has in training, and move up the rest.")


class ListFindings(Message):
    """What was odd about the lists, counted."""

    format: str
    rows: int
    users: int = Field(description="Users in the file.")
    users_scored: int = Field(description="Those of them with a relevant item in the test part.")
    users_not_counted: int = Field(
        description="Users of the file who are unknown or have no relevant item: not scored."
    )
    users_without_list: int = Field(description="Users of the test part whom the file lacks: they score nothing.")
    repeats: int = Field(description="Rows that repeat an item in a user's list: dropped, what follows moves up.")
    uneven_places: int = Field(description="Users whose places have gaps or repeats: numbered afresh.")
    unknown_items: int = Field(description="Items that training never saw: they hold their place and miss.")
    unknown_item_rows: int
    known_rows: int = Field(
        description="Rows with an item that the user has in training: they hold their place and miss."
    )
    known_dropped: bool
    short_lists: int = Field(description="Lists with fewer places than the largest cut-off: empty places miss.")
    examples: dict[str, list[str]] = {}
    said: list[str] = Field([], description="Each that there is, as a sentence: how many, and what became of them.")


class BesideFigures(Message):
    """Figures of one of our own contenders on the same users."""

    contender: str
    figures: list[Figure]


class ListScores(Message):
    """Lists made elsewhere, scored on the test part."""

    label: str
    data: str
    beside: str | None
    users: int = Field(description="Users of the test part with a relevant item, over whom means are taken.")
    decide_by: str
    figures: list[Figure]
    findings: ListFindings
    left_out: list[str] = Field([], description="Metrics that lists alone do not give.")
    contenders: list[BesideFigures] = []
    comparison: ContestComparison | None = Field(None, description="The lists and every contender, user by user.")


class ListWork(Message):
    """Lists that were scored or analysed before; the job's number opens what came of it."""

    job: int
    work: Literal["scores", "analysis"]
    label: str = Field(description="What the lists are called: a label, a model or a file.")
    data: str
    beside: str | None = Field(description="The run they were looked at beside.")
    users: int
    ended_at: datetime
