"""Events: what users do, sent as it happens; and columns of items and users that change while a shelf serves."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any

from pydantic import AwareDatetime, ConfigDict, Field

from gleaner.wire.common import MAX_CONTEXT, WITHOUT_NUL, ContextName, ContextValue, FewBytes, Id, Message, Name
from gleaner.wire.datasets import Drift

MAX_BATCH = 5000
MAX_CELLS = 50_000
"""Cells of one call that changes columns."""


class Event(Message):
    """A user met an item."""

    id: Id | None = Field(
        None, description="Whoever sends it again sends the same id, and it counts once. Left out: one is given."
    )
    source: Annotated[str, Field(max_length=1000, pattern=WITHOUT_NUL), FewBytes] = Field(
        "", description="Who gave the id: ids of one source are told apart from those of another."
    )
    user: Id
    item: Id
    kind: Id | None = Field(None, description="One of the dataset's kinds; left out where it has none.")
    value: float | None = Field(None, allow_inf_nan=False)
    time: AwareDatetime | None = Field(None, description="When it happened, with its zone; left out: now.")
    list_id: Id | None = Field(None, description="The list that the item was shown in.")
    context: dict[ContextName, ContextValue] = Field(
        {}, max_length=MAX_CONTEXT, description="Columns of the interaction that the dataset keeps, such as the device."
    )


class EventsRequest(Message):
    """Several events, all taken or none."""

    model_config = ConfigDict(
        json_schema_extra={
            "example": {
                "data": "seeds",
                "events": [{"id": "e-1", "user": "g-0417", "item": "v-0007", "kind": "save"}],
            }
        }
    )

    data: Name = Field(description="The dataset they belong to.")
    events: list[Event] = Field(min_length=1, max_length=MAX_BATCH)


class OneEvent(Event):
    """One event with its dataset."""

    data: Name


class EventsAccepted(Message):
    """What became of the events: they are kept, and the next list reflects them."""

    data: Name
    taken: int
    repeated: int = Field(description="Ids that were here before; they changed nothing.")
    ids: list[str] = Field([], description="Those that were given by the service, in order.")
    notes: list[str] = Field(
        [],
        description="With `notes=true`, to callers with the scope build: what the first 20 events can change if the "
        "data lack their items or users, and what not.",
    )


class KeptEvent(Message):
    """An event as it was kept."""

    id: str
    source: str
    user: str
    item: str
    kind: str | None
    value: float | None
    time: datetime
    list_id: str | None
    context: dict[str, Any] = {}
    received_at: datetime


class Change(Message):
    """New cells of one row of a table; columns not named stay."""

    id: Id
    columns: dict[str, Any] = Field(min_length=1, max_length=100)


class ChangesRequest(Message):
    """Cells of items or users that are other than the dataset's newest version says, from now on."""

    model_config = ConfigDict(
        json_schema_extra={"example": {"changes": [{"id": "v-0007", "columns": {"stock": 0, "surplus": False}}]}}
    )

    changes: list[Change] = Field(min_length=1, max_length=MAX_BATCH)


class ChangesAccepted(Message):
    """What was changed."""

    data: Name
    rows: int
    cells: int


class ListsBack(Message):
    """What came back of the lists of one shelf, over the days asked for."""

    shelf: str
    lists: int
    users: int = Field(description="That were named.")
    fallbacks: int
    answered: int = Field(description="Lists that an event names.")
    events: int = Field(description="That name one of them.")
    by_place: list[int] = Field(description="Events on an item of the list, by its place, the first ten places.")
    items_shown: int = Field(description="Different items in the newest lists, 20,000 at most.")


class LiveDrift(Message):
    """How far events are from the rows of the version. A distance is the total variation of shares, 0 to 1; by chance:
    what so many rows drawn from the version would show."""

    popularity: float
    popularity_by_chance: float
    movers: list[Drift] = Field(description="Items whose share of rows moved most.")
    kinds: list[Drift] = []
    value_means: tuple[float, float] | None = Field(None, description="Of the version and of the events.")
    values: float | None = None
    values_by_chance: float | None = None
    unknown_users: float = Field(description="Share of events by users whom the version does not have.")
    unknown_items: float


class RouteTimes(Message):
    """How long calls of one route took in the process that answers, since it began; quantiles from a histogram."""

    route: str
    calls: int
    p50_ms: float
    p99_ms: float


class LiveState(Message):
    """What came since the newest version of a dataset was made, and how it is served."""

    data: Name
    version: str
    events: int = Field(description="Kept since then.")
    in_memory: int = Field(description="Held by the process that answers.")
    last_at: datetime | None
    events_per_minute: list[int] = Field(description="In each of the last sixty minutes, oldest first.")
    lists_per_minute: list[int]
    by_kind: dict[str, int]
    users_new: int = Field(description="Users with events whom the version does not have.")
    items_new: int
    changed_rows: int = Field(description="Rows of items and users with changed columns.")
    catalogue: int = Field(description="Items of the version.")
    drift: LiveDrift | None = Field(None, description="None without events.")
    lists: list[ListsBack]
    waits: list[RouteTimes]
