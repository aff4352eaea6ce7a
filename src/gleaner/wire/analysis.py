"""How unexpected lists are, by several published definitions."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from gleaner.wire.common import Label, Message, UploadName
from gleaner.wire.contests.contest import PrepareSpec
from gleaner.wire.lists import ListColumns, ListFindings


class AnalyseRequest(Message):
    """Analyse lists: those of a model, or a file's; against a run's training and test part, a dataset's rows, or what
    the model was trained on."""

    model: Label | None = Field(None, description="Our own lists: of this model.")
    upload: UploadName | None = Field(None, description="Instead: what /v1/uploads answered.")
    file: Label = "lists"
    columns: ListColumns = ListColumns()
    beside: Label | None = Field(
        None, description="A run: histories from its training part, relevance from its test part."
    )
    data: Label | None = Field(None, description="For a file without a run: histories from this dataset version.")
    prepare: PrepareSpec = PrepareSpec()
    n: int = Field(10, ge=1, le=100, description="Places of each list that are looked at.")
    expected: Label = Field("popular", description="The family whose lists anybody would expect; nothing personal.")
    expected_n: int = Field(20, ge=1, le=1000, description="How long those are.")
    content: list[Label] | None = Field(
        None, max_length=100, description="Item columns that say what an item is; all categories unless named."
    )
    history_bins: int = Field(4, ge=2, le=20)
    popularity_bins: int = Field(4, ge=2, le=20)
    bias_bins: int = Field(4, ge=2, le=20)
    kernel: Literal["linear", "rbf", "polynomial", "sigmoid", "cosine"] = "rbf"
    seed: int = Field(1, ge=0, lt=2**63)


class Distribution(Message):
    """How figures spread over users."""

    mean: float
    deviation: float
    least: float
    quarter: float
    half: float
    three_quarters: float
    most: float


class BinMean(Message):
    """A mean in one part."""

    name: str
    n: int = Field(description="Users, or listed items.")
    mean: float | None


class Sensitivity(Message):
    """How a definition changes with something else. rho: Spearman's, over users or listed items."""

    rho: float | None
    bins: list[BinMean]


class SurpriseReport(Message):
    """One definition over all lists."""

    name: str
    formula: str
    source: str
    raw: Distribution = Field(description="Of users' means, as the formula gives them.")
    normal: Distribution = Field(description="The same, normalised over all listed items to 0 to 1.")
    by_place: list[float | None] = Field(description="Rank curve: the normalised mean at each place, from the first.")
    by_history: Sensitivity = Field(description="By the number of items of the user.")
    by_popularity: Sensitivity = Field(description="By the number of users of the item.")
    by_bias: Sensitivity = Field(description="By the mean of the user's values less that of all.")


class IndexReport(Message):
    """One figure for all definitions together."""

    method: str
    explained: list[float] = Field(description="Share of the variance of each component, most first.")
    weights: dict[str, float] = Field({}, description="Of each definition in the first component; a kernel has none.")
    sampled: int = Field(description="Users it was found on.")
    rho: dict[str, float] = Field(description="Spearman's with each definition.")


class AnalysisReport(Message):
    """How unexpected lists are. Tables of agreement are square, in the order of `definitions`."""

    label: str
    data: str
    beside: str | None
    users: int
    places: int
    expected: str
    expected_n: int
    content: list[str]
    relevance: bool = Field(
        description="Whether a test part said what is relevant; else every item counts as relevant."
    )
    definitions: list[SurpriseReport]
    left_out: dict[str, str] = Field({}, description="Definitions that could not be had, and why.")
    kendall: list[list[float | None]]
    spearman: list[list[float | None]]
    indexes: list[IndexReport]
    findings: ListFindings | None = None
    seconds: float
    file: str = Field(description="Its digest: figures by user; download it as the job's file.")
