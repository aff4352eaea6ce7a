"""Shelves that are refreshed: when, how, and what must hold before the new version is served."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field, field_validator

from gleaner.wire.common import Message, Page


class GuardSpec(Message):
    """What must hold before a refreshed version is served. New and current model are asked for the lists of the same
    users, and judged by rows that neither was fitted on: the newest of those that came since the current one."""

    metric: Literal["ndcg", "recall", "precision", "map", "mrr", "hit"] = "ndcg"
    at: int = Field(10, ge=1, le=1000)
    worse_by: float = Field(
        0.02, ge=0, lt=1, description="Share of the current figure by which the new one may be below it."
    )
    certainty: Literal["by_mean", "to_refuse", "to_publish"] = Field(
        "by_mean",
        description="What decides: the means; or the 95 % interval of the difference, which must show such a loss to "
        "refuse, or rule it out to publish.",
    )
    held_out: float = Field(0.5, gt=0, le=0.9, description="Share of the rows since that judges; the rest is learned.")
    judged_by: Literal["all", "unprompted"] = Field(
        "all",
        description="unprompted: less what lists have shown to the user since, which then is no candidate either.",
    )
    least_users: int = Field(50, ge=1, description="With fewer users to judge by nothing is published.")


class RefreshSpec(Message):
    """How a shelf is kept fresh."""

    every: str | None = Field(
        None,
        max_length=100,
        description="When, as cron text in UTC: minute, hour, day, month, weekday. Left out: only when asked for.",
        examples=["0 3 * * *"],
    )
    events: bool = Field(True, description="Make a version of the dataset with the events since the newest, first.")
    fit: Literal["anew", "go_on"] = Field(
        "anew", description="go_on: from the state of the current model, where its family can."
    )
    guard: GuardSpec = GuardSpec()

    @field_validator("every")
    @classmethod
    def _cron(cls, given: str | None) -> str | None:
        # only files that name times pay for it
        from croniter import croniter

        if given is not None and (len(given.split()) != 5 or not croniter.is_valid(given)):
            raise ValueError(f"{given!r} is no cron text: minute, hour, day, month and weekday, as in '0 3 * * *'")
        return given


class JudgedModel(Message):
    """One model judged by the guard."""

    model: str
    mean: float
    low: float | None
    high: float | None


class GuardOutcome(Message):
    """What the guard saw."""

    metric: str
    users: int
    rows_learned: int = Field(description="Rows since the current model that the judged one was fitted on too.")
    rows_held: int = Field(description="Rows that judged.")
    prompted: int = Field(0, description="Pairs of a user and an item among them left out, as a list had shown them.")
    current: JudgedModel | None = None
    new: JudgedModel | None = None
    difference: tuple[float, float, float] | None = Field(
        None, description="New less current over the same users: mean, and its 95 % interval."
    )
    passed: bool
    said: str


class Refresh(Message):
    """One refresh of a shelf."""

    id: int
    shelf: str
    state: Literal["running", "proposed", "published", "kept", "refused", "failed", "cancelled"] = Field(
        description="kept: the guard, or nothing new, kept what is served. proposed: it waits for a serving process."
    )
    job: int
    due_at: datetime | None = Field(None, description="Left out: it was asked for.")
    began_from: str = Field(description="The version of the shelf that was served then.")
    data: str | None = None
    events: int | None = Field(None, description="Taken into a new version of the dataset.")
    models: dict[str, str] = Field({}, description="Models refitted: what each became.")
    guard: GuardOutcome | None = None
    published: str | None = None
    reason: str | None = None
    created_at: datetime


class Refreshes(Message):
    """Refreshes of a shelf, newest first, and when the next is due."""

    shelf: str
    next_at: datetime | None = None
    refreshes: Page[Refresh]


class RefreshRequest(Message):
    """Refresh a shelf now."""

    only_judge: bool = Field(False, description="Judge, and publish nothing.")
