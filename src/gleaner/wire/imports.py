"""Imports: where rows come from, which column plays which role, what was found."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, ConfigDict, Field, StringConstraints, model_validator

from gleaner.wire.common import FieldProblem, Label, Message, UploadName

Column = Annotated[str, StringConstraints(min_length=1, max_length=200)]
Format = Literal["csv", "parquet", "arrow", "ndjson", "json", "xlsx"]
TypeName = Literal["category", "categories", "number", "flag", "date", "text", "link", "picture", "ignored"]
Strictness = Literal["lenient", "normal", "strict"]
RESERVED = ("user", "item", "kind", "time", "value", "part")


class Roles(Message):
    """Which column of the file plays which role. Order of columns never matters."""

    user: Column
    item: Column
    value: Column | None = None
    kind: Column | None = None
    time: Column | None = None
    context: list[Column] = Field(
        [], max_length=50, description="Columns kept beside each interaction, such as device."
    )

    def named(self) -> dict[str, str]:
        """Role to column, for the single roles that are given."""
        return {role: getattr(self, role) for role in ("user", "item", "value", "kind", "time") if getattr(self, role)}

    @model_validator(mode="after")
    def _one_role_each(self) -> Roles:
        taken: dict[str, str] = {}
        for role, column in [*self.named().items(), *(("context", column) for column in self.context)]:
            if column in taken:
                raise ValueError(f"column {column!r} is given two roles: {taken[column]} and {role}")
            taken[column] = role
        reserved = [column for column in self.context if column in RESERVED]
        if reserved:
            raise ValueError(f"a context column cannot be called {reserved[0]!r}, the name of a role; rename it")
        return self


class ColumnType(Message):
    """What a column holds. `categories` are several in one cell, cut at a separator."""

    type: TypeName
    separator: str | None = Field(None, min_length=1, max_length=8)

    @model_validator(mode="after")
    def _separates(self) -> ColumnType:
        if self.type == "categories" and self.separator is None:
            self.separator = "|"
        if self.type != "categories" and self.separator is not None:
            raise ValueError(f"a separator goes with categories only, not with {self.type}")
        return self


def _typed(given: Any) -> Any:
    """Read the short form: `category`, or `categories ;`."""
    if not isinstance(given, str):
        return given
    name, _, separator = given.partition(" ")
    return {"type": name, "separator": separator.strip() or None}


Typed = Annotated[ColumnType, BeforeValidator(_typed)]


class Derive(Message):
    """One declared step that makes columns: exactly one of split, pull, join, time."""

    model_config = ConfigDict(
        json_schema_extra={
            "examples": [
                {"split": "place", "by": "/", "into": ["region", "village"]},
                {"pull": "title", "pattern": "\\\\((\\\\d{4})\\\\)$", "into": ["year"]},
                {"join": "families", "on": "family", "key": "family_id", "take": ["climbing"]},
                {"time": "at", "format": "%d.%m.%Y %H:%M", "zone": "Europe/Berlin"},
            ]
        }
    )

    split: Column | None = Field(None, description="Cut this column's cells at `by` into the columns `into`.")
    by: str | None = Field(None, min_length=1, max_length=20)
    pull: Column | None = Field(None, description="Take the groups of `pattern` out of this column's text.")
    pattern: str | None = Field(None, max_length=500, description="A regular expression; its groups go to `into`.")
    into: list[Column] = Field([], max_length=20)
    join: Label | None = Field(
        None, description="Add columns of this table of the request, matched `on` a column here."
    )
    on: Column | None = None
    key: Column | None = Field(None, description="The column of the joined table; the same name where left out.")
    take: list[Column] = Field([], max_length=100, description="Columns to add; all where left out.")
    time: Column | None = Field(None, description="Read this column as times.")
    format: str | None = Field(
        None, max_length=60, description="Such as %d.%m.%Y %H:%M; `s`, `ms` or `us` for epoch counts."
    )
    zone: str | None = Field(
        None, max_length=60, description="Time zone of times that name none, such as Europe/Berlin."
    )

    @model_validator(mode="after")
    def _one_step(self) -> Derive:
        steps = [name for name in ("split", "pull", "join", "time") if getattr(self, name) is not None]
        if len(steps) != 1:
            raise ValueError(f"a step is one of split, pull, join, time; this one has {' and '.join(steps) or 'none'}")
        wants = {"split": ("by", "into"), "pull": ("pattern", "into"), "join": ("on",), "time": ()}[steps[0]]
        missing = [name for name in wants if not getattr(self, name)]
        if missing:
            raise ValueError(f"{steps[0]} needs {' and '.join(missing)}")
        return self


class Source(Message):
    """One place rows come from: an upload, a URL (a file, or a PostgreSQL database), and how to read it."""

    upload: UploadName | None = Field(None, description="What /v1/uploads answered.")
    url: str | None = Field(
        None,
        max_length=2000,
        description="An fsspec URL, read where the worker runs; or postgresql://... with `table` or `query`. "
        "${GLEANER_SOURCE_...} takes a value from the worker's environment.",
    )
    file: str = Field("upload", max_length=200, description="What to call it in messages; tells the format too.")
    format: Format | None = Field(None, description="Left out: by the file's name.")
    separator: str | None = Field(None, min_length=1, max_length=8, description="Left out: found from the first lines.")
    header: bool = Field(True, description="Whether the first line names the columns; without, they are f0, f1, ...")
    quotes: bool | None = Field(None, description="Whether cells may stand in double quotes. Left out: yes for CSV.")
    sheet: Label | None = Field(None, description="Sheet of a workbook.")
    table: str | None = Field(None, max_length=200, description="Table of a database, with its schema if needed.")
    query: str | None = Field(None, max_length=20_000, description="SELECT to run in a database.")
    id: Column | None = Field(None, description="Id column of an item or user table; the role's name where left out.")
    name: Column | None = Field(
        None,
        description="Column of an item or user table with what people call each row. It is stored as `name`, and "
        "lists, reasons and searches show it.",
    )
    wide: bool = Field(False, description="Users down, items across: gives the columns `item` and `value`.")
    across: list[Column] = Field(
        [], max_length=100_000, description="Item columns of a wide table; all but the user's where left out."
    )
    derive: list[Derive] = Field([], max_length=50)
    types: dict[Column, Typed] = Field(
        {}, max_length=2000, description="Types of columns, over those proposed from the data."
    )

    @model_validator(mode="after")
    def _one_place(self) -> Source:
        if (self.upload is None) == (self.url is None):
            raise ValueError("a source is an upload or a url, one of the two")
        return self


class GivenParts(Message):
    """Files split beforehand."""

    training: Source
    validation: Source | None = None
    test: Source


class ImportRequest(Message):
    """Make the next version of a dataset."""

    model_config = ConfigDict(
        json_schema_extra={
            "example": {
                "interactions": {"upload": "u-6f1c0c9e5d0b4a7f", "file": "interactions.csv"},
                "roles": {"user": "grower", "item": "variety", "value": "value", "kind": "kind", "time": "at"},
            }
        }
    )

    interactions: Source | None = None
    parts: GivenParts | None = Field(None, description="Instead of `interactions`: files split beforehand.")
    roles: Roles
    items: Source | None = Field(None, description="Item table; its id column has the name of the item role.")
    users: Source | None = Field(None, description="User table; its id column has the name of the user role.")
    tables: dict[Label, Source] = Field({}, max_length=20, description="Tables that `derive` joins.")
    scale: tuple[float, float] | None = Field(
        None,
        description="Lowest and highest value there may be. Rows added to a version are held to its scale where none "
        "is given.",
    )
    outside: Literal["refuse", "drop", "clip"] | None = Field(
        None,
        description="What becomes of rows with a value outside the scale: they refuse the import, are dropped, or are "
        "brought to the nearest end. Left out: refuse; with the strictness lenient drop.",
    )
    strictness: Strictness = Field(
        "normal",
        description="lenient: rows that cannot be read are dropped and counted. normal: they refuse the import. "
        "strict: warnings refuse it too.",
    )
    onto: int | None = Field(
        None,
        ge=1,
        lt=2**31,
        description="Add the rows to this version of the dataset; without interactions, its tables alone are renewed.",
    )
    only_look: bool = Field(
        False, description="Read all of it and report what an import would keep, drop and find; keep nothing."
    )

    def sources(self) -> dict[str, Source]:
        """Every source by its place in the request."""
        every = {"interactions": self.interactions, "items": self.items, "users": self.users}
        if self.parts:
            every |= {f"parts.{part}": getattr(self.parts, part) for part in ("training", "validation", "test")}
        every |= {f"tables.{name}": source for name, source in self.tables.items()}
        return {place: source for place, source in every.items() if source is not None}

    @model_validator(mode="after")
    def _whole(self) -> ImportRequest:
        given = (self.interactions is not None) + (self.parts is not None)
        if given != 1 and (given or self.onto is None):
            raise ValueError("an import has interactions, or parts that were split beforehand, one of the two")
        if self.scale is not None and not self.scale[0] < self.scale[1]:
            raise ValueError("scale needs a lowest value, and a highest one above it")
        if self.parts and self.onto:
            raise ValueError("files split beforehand cannot be added to another version")
        return self


class Dropped(Message):
    """Rows that were not kept, for one reason."""

    reason: str
    rows: int
    examples: list[str] = []


class FileReport(Message):
    """How one file was read."""

    part: str = Field(examples=["interactions"])
    file: str
    format: str
    details: dict[str, str] = {}
    rows_read: int
    rows_kept: int
    dropped: list[Dropped] = []
    missing: dict[str, int] = Field({}, description="Cells without a value, by column.")
    unused: list[str] = Field([], description="Columns without a role.")


class Finding(Message):
    """Something import found worth saying."""

    code: str = Field(examples=["repeats"])
    level: Literal["info", "warning"]
    text: str
    rows: int | None = None
    examples: list[str] = []


class ImportReport(Message):
    """What import read, kept, dropped and found. Kept with the version."""

    strictness: Strictness
    files: list[FileReport]
    findings: list[Finding]


class ImportLook(Message):
    """What an import would make, the `result` of a job that only looked: nothing was kept."""

    report: ImportReport
    rows: int
    users: int
    items: int


class TimeFormat(Message):
    """A format in which a column of times may be written."""

    format: str = Field(description="A strptime format, or `s`, `ms` or `us` for epoch counts.")
    label: str = Field(examples=["day first, with time"])
    share: float = Field(description="Share of the filled cells of the first rows that it reads.")


class ColumnGuess(Message):
    """What one column seems to be, and why."""

    column: str
    role: str | None = None
    type: str
    separator: str | None = None
    reason: str
    examples: list[str] = []
    time_formats: list[TimeFormat] = Field(
        [], description="Of a column that may hold times: formats that read at least half of it, the best first."
    )


class FileProposal(Message):
    """One file as it would be read."""

    part: str
    file: str
    format: str
    details: dict[str, str] = {}
    columns: list[ColumnGuess]
    preview: list[list[str | None]]


class ProposalRequest(Message):
    """Files to look into. Nothing is kept."""

    interactions: Source
    items: Source | None = None
    users: Source | None = None
    tables: dict[Label, Source] = Field({}, max_length=20, description="Tables that `derive` joins.")


class Proposal(Message):
    """Roles and types that fit the first rows; confirm them by naming them in an import."""

    files: list[FileProposal]
    roles: dict[str, str]
    missing: list[str] = Field([], description="Needed roles for which no column fits.")
    problems: list[FieldProblem] = Field(
        [],
        description="Files and steps that could not be read. The field begins with the file's part: `items`, "
        "`interactions.derive.0`, `tables.NAME`. Interactions that cannot be opened refuse the call.",
    )
