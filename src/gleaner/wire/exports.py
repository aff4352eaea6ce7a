"""Files and tables for other systems: what a model or a shelf would list for everyone, what is predicted for pairs."""

from __future__ import annotations

from typing import Literal

from pydantic import ConfigDict, Field, model_validator

from gleaner.wire.common import Id, Label, Message
from gleaner.wire.imports import Source

MAX_COLUMNS = 200
What = Literal["top-items", "top-users", "affinity", "values", "lists"]
Format = Literal["parquet", "csv", "ndjson"]


class TableTarget(Message):
    """A table of a PostgreSQL database that takes the rows, all of them or none."""

    url: str = Field(
        max_length=2000,
        description="postgresql://...; ${GLEANER_TARGET_...} takes a value from the worker's environment.",
    )
    table: str = Field(min_length=1, max_length=200, description="Its name, with its schema if needed.")
    mode: Literal["new", "append", "replace"] = Field(
        "new",
        description="new: it is made, and must not be there. append: rows are added. replace: its rows go in the same "
        "transaction.",
    )


class ExportRequest(Message):
    """One file or table, written by a job as it is made."""

    model_config = ConfigDict(
        json_schema_extra={"example": {"what": "top-items", "model": "first-look.als", "n": 10, "format": "csv"}}
    )

    what: What = Field(
        description="top-items: the best items of every user, a row each. top-users: the users who would like every "
        "item most. affinity: a row for every user, a column for each of `items` with its score. values: what the "
        "model predicts for `pairs`. lists: the list of every user as `shelf` serves it, conditions, slots and "
        "fallback included, by what its models learned."
    )
    model: Label | None = Field(None, description="Of all but lists: the model that scores.")
    shelf: Label | None = Field(None, description="Of lists: the shelf, or a version of it such as for-growers@2.")
    n: int = Field(10, ge=1, le=1000, description="Of top-items, top-users and lists, at most so many of each.")
    items: list[Id] = Field([], max_length=MAX_COLUMNS, description="Of affinity, the columns.")
    pairs: Source | None = Field(None, description="Of values, a table with a column `user` and a column `item`.")
    where: str | None = Field(
        None,
        max_length=4000,
        description="SQL condition over item columns for top-items, over user columns for top-users and affinity.",
    )
    include_known: bool = Field(False, description="Keep what a user has; else it is left out, in affinity empty.")
    format: Format = "parquet"
    exact: bool = Field(
        False,
        description="CSV: cells that begin with =, +, - or @ stay as they are. Else each gets an apostrophe before it, "
        "so that no spreadsheet runs it.",
    )
    to: str | None = Field(
        None,
        max_length=2000,
        description="An fsspec URL to write the file to; left out, with no table: the job keeps it.",
    )
    table: TableTarget | None = None

    @model_validator(mode="after")
    def _fits(self) -> ExportRequest:
        if (self.what == "affinity") != bool(self.items):
            raise ValueError("items are the columns of affinity: name some for it, and none for the others")
        if (self.what == "values") != (self.pairs is not None):
            raise ValueError("pairs are what values are predicted for: name them for it, and not for the others")
        if (self.what == "lists") != (self.shelf is not None) or (self.shelf is None) == (self.model is None):
            raise ValueError("lists are of a shelf, all others of a model: name the one that goes with them")
        if self.what == "lists" and (self.where is not None or self.include_known):
            raise ValueError("a shelf's own file says what it lists: neither where nor include_known goes with lists")
        if self.what == "values" and self.where is not None:
            raise ValueError("values are predicted for the pairs given: where does not go with them")
        if len(set(self.items)) < len(self.items):
            raise ValueError("an item is named twice")
        if "user" in self.items:
            raise ValueError("an item called 'user' cannot be a column beside that of the users")
        if self.to is not None and self.table is not None:
            raise ValueError("a file goes to `to`, rows go to `table`: name one of the two")
        return self
