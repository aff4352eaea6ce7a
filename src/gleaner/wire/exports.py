"""Files for other systems: what a model would list for everyone."""

from __future__ import annotations

from typing import Literal

from pydantic import ConfigDict, Field, model_validator

from gleaner.wire.common import Message

MAX_COLUMNS = 200
What = Literal["top-items", "top-users", "affinity"]
Format = Literal["parquet", "csv", "ndjson"]


class ExportRequest(Message):
    """One file, written by a job as it is made."""

    model_config = ConfigDict(
        json_schema_extra={"example": {"what": "top-items", "model": "first-look.als", "n": 10, "format": "csv"}}
    )

    what: What = Field(
        description="top-items: the best items of every user, a row each. top-users: the users who would like every "
        "item most. affinity: a row for every user, a column for each of `items` with its score."
    )
    model: str
    n: int = Field(10, ge=1, le=1000, description="Of top-items and top-users, at most so many of each.")
    items: list[str] = Field([], max_length=MAX_COLUMNS, description="Of affinity, the columns.")
    where: str | None = Field(
        None,
        max_length=4000,
        description="SQL condition over item columns for top-items, over user columns for the others.",
    )
    include_known: bool = Field(False, description="Keep what a user has; else it is left out, in affinity empty.")
    format: Format = "parquet"

    @model_validator(mode="after")
    def _fits(self) -> ExportRequest:
        if (self.what == "affinity") != bool(self.items):
            raise ValueError("items are the columns of affinity: name some for it, and none for the others")
        if len(set(self.items)) < len(self.items):
            raise ValueError("an item is named twice")
        if "user" in self.items:
            raise ValueError("an item called 'user' cannot be a column beside that of the users")
        return self
