"""Datasets and their versions."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any

from pydantic import ConfigDict, Field, StringConstraints, model_validator

from gleaner.wire.common import Message, Name

Column = Annotated[str, StringConstraints(min_length=1, max_length=200)]


class Roles(Message):
    """Which column of the file plays which role. Order of columns never matters."""

    user: Column
    item: Column
    value: Column | None = None
    kind: Column | None = None
    time: Column | None = None

    def named(self) -> dict[str, str]:
        """Role to column, for the roles that are given."""
        return {role: column for role, column in self.model_dump().items() if column is not None}

    @model_validator(mode="after")
    def _one_role_each(self) -> Roles:
        taken: dict[str, str] = {}
        for role, column in self.named().items():
            if column in taken:
                raise ValueError(f"column {column!r} is given two roles: {taken[column]} and {role}")
            taken[column] = role
        return self


class Upload(Message):
    """Bytes that were sent and not used yet. Thrown away after a day, or once an import has ended."""

    upload: str = Field(description="Name it in an import.", examples=["u-6f1c0c9e5d0b4a7f"])
    file: str
    bytes: int
    sha256: str


class UploadedFile(Message):
    """A file to import: an upload, and the name to use in messages about it."""

    upload: str
    file: str = "upload"


class ImportRequest(Message):
    """Make the next version of a dataset from uploaded files."""

    model_config = ConfigDict(
        json_schema_extra={
            "example": {
                "interactions": {"upload": "u-6f1c0c9e5d0b4a7f", "file": "interactions.csv"},
                "roles": {
                    "user": "grower",
                    "item": "variety",
                    "value": "value",
                    "kind": "kind",
                    "time": "at",
                },
            }
        }
    )

    interactions: UploadedFile
    roles: Roles
    items: UploadedFile | None = None
    users: UploadedFile | None = None
    separator: str = Field(",", min_length=1, max_length=1)
    header: bool = Field(True, description="Whether the first line names the columns; without, they are column_1, ...")


class TailPoint(Message):
    """The most popular share of items holds this share of rows."""

    items: float
    rows: float


class TimePoint(Message):
    """Rows in the period that starts at this date."""

    at: str
    rows: int
    kind: str | None = None


class OverTime(Message):
    """Rows by period: 1d, 1w, 1mo or 1y."""

    period: str
    points: list[TimePoint]


class KindCount(Message):
    """Rows of one kind."""

    kind: str | None
    rows: int


class ValueBin(Message):
    """Rows with this value, or in the bin that starts here."""

    at: float
    rows: int


class Values(Message):
    """The value column."""

    missing: int
    n: int
    mean: float | None
    min: float | None
    max: float | None
    histogram: list[ValueBin] = []
    binned: bool = False


class Span(Message):
    """First and last moment, UTC."""

    first: datetime | None
    last: datetime | None


class Profile(Message):
    """What the interactions of one version look like."""

    rows: int
    users: int
    items: int
    density: float = Field(description="rows / (users x items)")
    rows_per_user: dict[str, float]
    rows_per_item: dict[str, float]
    long_tail: list[TailPoint]
    gini: float
    kinds: list[KindCount] | None
    span: Span | None
    over_time: OverTime | None
    values: Values | None


class Note(Message):
    """Something import found worth saying."""

    level: str = Field(description="info or warning")
    text: str
    examples: list[str] = []


class TableColumn(Message):
    """One column of an item or user table."""

    name: str
    type: str
    missing: int


class VersionSummary(Message):
    """One version in a list."""

    name: str = Field(examples=["seeds@3"])
    dataset: str
    number: int
    created_at: datetime
    content_hash: str
    rows: int
    users: int
    items: int


class DatasetVersion(VersionSummary):
    """One version with everything kept about it."""

    roles: Roles
    item_columns: list[TableColumn] = []
    user_columns: list[TableColumn] = []
    notes: list[Note] = []
    profile: Profile


class Dataset(Message):
    """A named collection of interactions and its versions, newest first."""

    name: Name
    created_at: datetime
    versions: list[VersionSummary]


class HistoryRow(Message):
    """One interaction of one user."""

    item: str
    kind: str | None = None
    time: datetime | None = None
    value: float | None = None
    columns: dict[str, Any] = {}


class History(Message):
    """What one user did, newest first."""

    user: str
    known: bool
    rows: list[HistoryRow]
    total: int


class UserSummary(Message):
    """A user and how much they did."""

    user: str
    rows: int
