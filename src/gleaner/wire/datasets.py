"""Datasets and their versions."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import Field

from gleaner.wire.common import Id, Message, Name
from gleaner.wire.imports import ImportReport, Roles


class Upload(Message):
    """Bytes that were sent and not used yet. Thrown away after a day, or once an import has ended."""

    upload: str = Field(description="Name it in an import.", examples=["u-6f1c0c9e5d0b4a7f"])
    file: str
    bytes: int
    sha256: str


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
    left_out: int = Field(0, description="Rows at times far from all others, which are not among the points.")


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


class ActivityBin(Message):
    """Users or items with at least this many rows and fewer than the next bin's."""

    at: int
    count: int


class ColdCount(Message):
    """Users or items with at most this many rows, and the share of rows they hold."""

    at_most: int
    count: int
    share: float
    rows: float


class Span(Message):
    """First and last moment, UTC."""

    first: datetime | None
    last: datetime | None


class Profile(Message):
    """What the interactions of one version look like."""

    rows: int
    users: int
    items: int
    cells: int | None = Field(None, description="User-item pairs that met at least once.")
    density: float = Field(description="cells / (users x items)")
    rows_per_user: dict[str, float]
    rows_per_item: dict[str, float]
    long_tail: list[TailPoint]
    gini: float
    kinds: list[KindCount] | None
    span: Span | None
    over_time: OverTime | None
    values: Values | None
    activity: dict[str, list[ActivityBin]] = Field({}, description="How many users, and items, have how many rows.")
    means: dict[str, list[ValueBin]] = Field({}, description="How many users, and items, have which mean value.")
    cold: dict[str, list[ColdCount]] = Field({}, description="Users and items with few rows.")


class TableColumn(Message):
    """One column of an item or user table, or a context column."""

    name: str
    type: str = Field(examples=["category"])
    missing: int
    distinct: int | None = None
    separator: str | None = None


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
    base: str | None = Field(None, description="The version whose rows these were added to.")
    forgotten: int = Field(0, description="Users that were forgotten since the import.")


class DatasetVersion(VersionSummary):
    """One version with everything kept about it."""

    roles: Roles
    item_columns: list[TableColumn] = []
    user_columns: list[TableColumn] = []
    context_columns: list[TableColumn] = []
    parts: dict[str, int] = Field({}, description="Rows by part, where the files were split beforehand.")
    scale: tuple[float, float] | None = None
    report: ImportReport
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
    label: str | None = Field(None, description="What the user table calls them.")


class ItemSummary(Message):
    """An item and how many rows it has."""

    item: str
    rows: int
    label: str | None = Field(None, description="What the item table calls it.")


class RowsPage(Message):
    """Some rows of one table of a version."""

    table: str
    columns: list[TableColumn]
    rows: list[list[Any]]
    total: int = Field(description="Rows for which the condition holds.")
    sampled: bool = False


class QueryRequest(Message):
    """SQL over the tables interactions, items and users of a version. Read-only."""

    sql: str = Field(
        min_length=1, max_length=20_000, examples=["SELECT kind, count(*) AS rows FROM interactions GROUP BY kind"]
    )
    limit: int = Field(1000, ge=1, le=1_000_000, description="Most rows answered.")


class QueryAnswer(Message):
    """Rows of a query."""

    columns: list[str]
    types: list[str]
    rows: list[list[Any]]
    cut: bool = Field(False, description="Whether there are more rows than the limit.")
    seconds: float


class ItemFacts(Message):
    """One item: how much it was touched, its values, and what goes together with it."""

    item: str
    known: bool
    rows: int
    users: int
    mean: float | None = None
    histogram: list[ValueBin] = []
    over_time: list[TimePoint] = []
    together: list[CooccurringItem] = Field([], description="Items that share most users with it.")
    columns: dict[str, Any] = {}


class CooccurringItem(Message):
    """An item that shares users with another. lift: shared / (its users x the other's users / all users)."""

    item: str
    label: str | None = Field(None, description="Its first text column.")
    shared: int
    share: float = Field(description="Of the users of the item asked about.")
    lift: float


class Overlap(Message):
    """Two users: items in common, and how alike their values are."""

    user: str
    other: str
    items: int
    common: int
    jaccard: float
    correlation: float | None = Field(None, description="Pearson over the common items with values; null below three.")
    gap: float | None = Field(None, description="Mean absolute difference of the common values.")


class OverlapMap(Message):
    """Every pair of the chosen users."""

    users: list[str]
    unknown: list[str] = []
    pairs: list[Overlap]


class Drift(Message):
    """One item or value whose share changed most."""

    name: str
    before: float
    after: float


class Comparison(Message):
    """Two versions of a dataset. Drift is the total variation distance between shares: 0 the same, 1 nothing shared."""

    before: str
    after: str
    counts: dict[str, tuple[float, float]]
    same_content: bool
    users_new: int
    users_gone: int
    items_new: int
    items_gone: int
    popularity_drift: float
    rank_correlation: float | None = Field(description="Spearman, over the items both have.")
    movers: list[Drift]
    value_drift: float | None = None
    value_means: tuple[float, float] | None = None
    values: list[Drift] = []
    kinds: list[Drift] = []


class ForgetRequest(Message):
    """Remove everything one user did, from every version."""

    user: Id


class RemovedVersion(Message):
    """A version whose data is gone, and the models that had learned from it."""

    version: str
    models: list[str] = []


class EncodingReport(Message):
    """How item or user columns become features. What is learned is learned from ids that training has."""

    table: Literal["items", "users"]
    rows: int
    features: int
    filled: float = Field(description="Share of cells that are not zero.")
    columns: list[EncodedColumn]


class EncodedColumn(Message):
    """One column as features."""

    column: str
    role: str
    features: int
    missing: int
    how: str
    examples: list[str] = []
