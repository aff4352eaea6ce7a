"""The state of an installation at a glance: what is served and how it does, what runs, what needs attention."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from gleaner.wire.common import Message
from gleaner.wire.events import RouteTimes
from gleaner.wire.jobs import Job
from gleaner.wire.shelves.refreshes import Refresh


class ServedShelf(Message):
    """A shelf, and how it did in the last day. Shares are null where no list was served."""

    shelf: str
    title: str
    serving: str = Field(examples=["for-growers@3"])
    data: str
    lists: int = Field(description="Served in the last day.")
    lists_last_hour: int
    users: int = Field(description="That were named.")
    fallbacks: float | None = Field(description="Share of lists that a fallback made.")
    catalogue_shown: float | None = Field(description="Share of the items of the newest version of the data.")
    answered: float | None = Field(description="Share of lists that an event names.")
    refresh: Refresh | None = Field(None, description="The newest.")
    next_refresh_at: datetime | None = None
    never_refreshed: bool = Field(False, description="Its schedule names no date that occurs.")


class ServedData(Message):
    """A dataset that is served, and what came since its newest version was made."""

    data: str
    version: str
    events: int
    last_at: datetime | None
    popularity_drift: float | None = Field(None, description="Total variation of shares of items, 0 to 1.")
    drift_by_chance: float | None = Field(None, description="What so many rows drawn from the version would show.")


class Attention(Message):
    """Something a person should look at, in a sentence."""

    about: Literal["job", "shelf", "dataset"]
    name: str = Field(description="Of the shelf or dataset, or the number of the job.")
    text: str


class Totals(Message):
    """How many there are."""

    datasets: int
    runs: int
    models: int
    shelves: int


class Overview(Message):
    """The state of an installation at a glance."""

    totals: Totals
    shelves: list[ServedShelf]
    datasets: list[ServedData] = Field(description="Those that a shelf serves.")
    lists: list[RouteTimes] = Field(description="How long lists took in the process that answers, since it began.")
    running: list[Job] = Field(description="Jobs that run or wait.")
    attention: list[Attention]
