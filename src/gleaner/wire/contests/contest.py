"""Contests: the file that declares one."""

from __future__ import annotations

import re
from datetime import UTC, date, datetime
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, ConfigDict, Field, ValidationInfo, field_validator, model_validator

from gleaner.wire.common import Label, Message, Name
from gleaner.wire.contests.rank import RankSpec
from gleaner.wire.shelves.shelf import ShelfSpec

FileName = Annotated[str, Field(min_length=1, max_length=200)]
FileText = Annotated[str, Field(min_length=1, max_length=65_536)]
CONTENDER_KEYS = ("as", "prepare", "tune", "without")
LEFT_OUT = ("kinds", "drop_users_over", "half_life_days", "transform")
"""Fields of `prepare` that `without` can leave out: those that act on training rows alone."""
FEATURES = "features"
"""What `without` calls columns of the item and user tables: all, or after a dot `items`, `users` or a column."""
MEMBERS, SECOND_STAGE, LAYERS = "members", "second_stage", "layers"
"""What it calls one of several models, after a dot which, the learned order of a second stage, and depth."""
OF_THE_MODEL = (FEATURES, MEMBERS, SECOND_STAGE, LAYERS)
"""What is left out of a model, and not of its preparation."""
FUSED = "blend_ranks"
"""The family that stands for a second stage without its learned order: the same members, joined by their places."""


class WindowSpec(Message):
    """Rows kept by time. Moments without a zone are UTC."""

    since: datetime | None = Field(None, description="Keep rows at or after this moment.")
    until: datetime | None = Field(None, description="Keep rows before this moment.")
    last_days: float | None = Field(None, gt=0, description="Keep the days before the last row.")

    @field_validator("since", "until", mode="before")
    @classmethod
    def _dates_are_moments(cls, given: Any) -> Any:
        return as_moment(given)


def as_moment(given: Any) -> Any:
    """A date, or a moment without a zone, as UTC."""
    if isinstance(given, str):
        given = datetime.fromisoformat(given)
    if isinstance(given, date) and not isinstance(given, datetime):
        given = datetime(given.year, given.month, given.day)
    return given.replace(tzinfo=UTC) if isinstance(given, datetime) and given.tzinfo is None else given


class TransformSpec(Message):
    """One step on cell values. In the file: `log1p`, `cap: 0.99`, `rescale: [0, 1]` or `confidence: 40`."""

    name: Literal["log1p", "cap", "rescale", "confidence"]
    by: list[float] = Field([], max_length=10)


def _transform(entry: Any) -> Any:
    if isinstance(entry, str):
        return {"name": entry}
    if isinstance(entry, dict) and len(entry) == 1 and "name" not in entry:
        [(name, by)] = entry.items()
        return {"name": name, "by": by if isinstance(by, list) else [] if by is None else [by]}
    return entry


class PrepareSpec(Message):
    """From raw rows to a training matrix, in this order."""

    kinds: dict[Label, float] = Field(
        {}, max_length=64, description="Weight per kind; kinds not named are dropped. Empty keeps all."
    )
    drop_kinds: list[Label] = Field(
        [], max_length=64, description="Instead of `kinds`: drop these, and count the others 1."
    )
    window: WindowSpec = WindowSpec()
    use: Literal["weights", "values"] | None = Field(
        None,
        description="What a row measures. Left out: weights, or values where the data has them and no kinds are given.",
    )
    like_from: float | None = Field(
        None, description="Explicit to implicit: rows with at least this value count, the others are dropped."
    )
    drop_users_over: int | None = Field(None, ge=1, description="Drop users with more training rows than this.")
    half_life_days: float | None = Field(
        None, gt=0, description="A row weighs half as much for every so many days before the last training row."
    )
    merge: Literal["sum", "count", "max", "mean", "latest"] | None = Field(
        None, description="How repeats of one user and item become one cell. Left out: sum of weights, mean of values."
    )
    transform: list[Annotated[TransformSpec, BeforeValidator(_transform)]] = Field(
        [], max_length=20, description="Steps on cell values; what they learn, they learn from training cells."
    )
    min_user: int = Field(1, ge=1, description="Prune users with fewer items.")
    min_item: int = Field(1, ge=1, description="Prune items with fewer users.")


SPLIT_FIELDS = {
    "time": ("test", "validation", "test_from", "gap_days", "keep"),
    "rows": ("test", "validation", "keep"),
    "user_rows": ("test", "validation", "keep"),
    "last": ("test", "validation", "keep"),
    "users": ("test", "validation", "show", "keep"),
    "items": ("test", "validation", "keep"),
    "given": ("keep",),
    "folds": ("folds", "validation"),
}


class SplitSpec(Message):
    """How rows are divided. Random choices come from the contest's seed."""

    by: Literal["time", "rows", "user_rows", "last", "users", "items", "given", "folds"] = "time"
    test: float = Field(
        0.1, gt=0, description="Share of rows, of users or of items; for `last` the rows of each user (1)."
    )
    validation: float = Field(0.1, ge=0, description="The same for validation; for `folds` 0 unless given.")
    test_from: datetime | None = Field(None, description="For `time`: the moment itself instead of a share.")
    gap_days: float = Field(0.0, ge=0, description="For `time`: rows in so many days before each moment are left out.")
    show: float = Field(0.5, gt=0, lt=1, description="For `users`: share of a held-out user's rows that is shown.")
    folds: int = Field(5, ge=2, le=50, description="For `folds`: how many.")
    keep: list[Literal["users", "items"]] = Field(
        [],
        max_length=2,
        description="Judge lists also of users, or for items, that training never saw: by their columns, where a model "
        "looks at any. Left out, these are counted and no more. A split by `items` keeps items.",
    )

    @field_validator("test", "validation")
    @classmethod
    def _share_or_count(cls, given: float, info: ValidationInfo) -> float:
        if info.data.get("by") == "last":
            if not given.is_integer():
                raise ValueError("for a split by last this is a whole number of rows of each user")
        elif given >= 0.9:
            raise ValueError("this is a share, and must be below 0.9")
        return given

    @field_validator("test_from", mode="before")
    @classmethod
    def _date_is_moment(cls, given: Any) -> Any:
        return as_moment(given)

    @model_validator(mode="after")
    def _fits(self) -> SplitSpec:
        fields = type(self).model_fields
        given = {name for name in self.model_fields_set if getattr(self, name) != fields[name].default}
        if self.by == "users" and "users" in self.keep:
            raise ValueError("a split by users shows a part of whom it holds out: keep takes items there")
        foreign = sorted(given - {"by", *SPLIT_FIELDS[self.by]})
        if foreign:
            has = ", ".join(SPLIT_FIELDS[self.by]) or "no more fields"
            raise ValueError(f"a split by {self.by} does not take {foreign[0]!r}; it takes: {has}")
        if self.by == "last":
            for name in {"test", "validation"} - self.model_fields_set:
                setattr(self, name, 1.0)
        elif self.by == "folds" and "validation" not in self.model_fields_set:
            self.validation = 0.0
        return self


class TuneSpec(Message):
    """How parameters with ranges are searched: decided on the validation part, the test part is not looked at."""

    search: Literal["bayesian", "random", "quasi_random", "grid"] = "bayesian"
    attempts: int = Field(20, ge=1, le=10_000, description="At most so many settings of each contender.")
    minutes: float | None = Field(None, gt=0, description="No new attempt of a contender begins after so long.")
    prune: bool = Field(True, description="Stop attempts that are below the median of earlier ones as they iterate.")


class CurvesSpec(Message):
    """Learning curves, on the validation part."""

    every: int | None = Field(None, ge=1, description="Score the deciding metric every so many iterations of a fit.")
    amounts: list[float] = Field(
        [], max_length=20, description="Fit on these shares of the training cells too, each within the next."
    )

    @field_validator("amounts")
    @classmethod
    def _shares(cls, amounts: list[float]) -> list[float]:
        if any(not 0 < share < 1 for share in amounts):
            raise ValueError("every amount is a share between 0 and 1; all of it is scored anyway")
        return sorted(set(amounts))


class ContenderSpec(Message):
    """One model configuration. In the file: `als`, or `als: {rank: 64}`, with `as: name` to tell two apart.

    A parameter may be a range, `{choose: [16, 32]}` or `{between: [0.001, 1], log: true}`, which is then tuned.
    """

    label: Name
    family: str
    params: dict[str, Any] = {}
    prepare: PrepareSpec | None = Field(
        None, description="Fields that differ from the contest's `prepare`, on what this contender is trained on."
    )
    tune: TuneSpec | None = Field(None, description="Fields that differ from the contest's `tune`.")
    without: list[str] = Field(
        [],
        description="Each makes one more contender that lacks it: features, features.COLUMN, members.als, "
        "second_stage, layers, kinds.view, half_life_days, transform.log1p.",
    )
    ablates: str | None = Field(None, description="The contender that this one is, but for `lacks`.")
    lacks: str | None = None

    @model_validator(mode="before")
    @classmethod
    def _short_forms(cls, given: Any) -> Any:
        return _contender(given)

    @property
    def tuned(self) -> bool:
        """Whether a parameter has a range."""
        return any(isinstance(each, dict) and {"choose", "between"} & set(each) for each in self.params.values())


class ContestShelf(Message):
    """A shelf that a contest names; once the file is checked, with its own file."""

    name: str | None = Field(None, min_length=1, max_length=200, description="A published shelf, or FILE.yaml.")
    file: ShelfSpec | None = Field(None, description="Or a shelf file right here.")

    @model_validator(mode="before")
    @classmethod
    def _short_forms(cls, given: Any) -> Any:
        if isinstance(given, str):
            return {"name": given}
        if not isinstance(given, dict):
            raise ValueError("a shelf is the name of a published one, FILE.yaml, or a shelf file right here")
        return given if set(given) <= {"name", "file"} else {"file": given}


class ContestSpec(Message):
    """A contest file."""

    model_config = ConfigDict(
        json_schema_extra={
            "example": {
                "contest": "spring-comparison", "data": "seeds@1",
                "prepare": {"kinds": {"view": 1, "save": 3, "request": 5}, "min_user": 5, "min_item": 5},
                "split": {"by": "time", "test": 0.1, "validation": 0.1},
                "rank": {"at": [5, 10, 20], "metrics": ["ndcg", "recall"], "decide_by": "ndcg@10"},
                "contenders": ["popular", {"item_knn": {"neighbours": 100}}, {"als": {"rank": 32}}],
            }
        }
    )  # fmt: skip

    contest: Name
    data: str = Field(description="A dataset version such as seeds@1; without a number the newest.")
    prepare: PrepareSpec = PrepareSpec()
    split: SplitSpec = SplitSpec()
    rank: RankSpec = RankSpec()
    contenders: list[ContenderSpec] = Field(min_length=1, max_length=200)
    shelves: list[ContestShelf] = Field(
        [],
        max_length=10,
        description="Shelves whose whole pipeline lists for the users of the test part: published ones by name, "
        "FILE.yaml beside this file, or a shelf file right here. Its models may be contenders, by their labels.",
    )
    tune: TuneSpec = TuneSpec()
    curves: CurvesSpec = CurvesSpec()
    seed: int = Field(1, ge=0)

    @property
    def baseline(self) -> str:
        """The label of the contender that all others are compared with."""
        return next(each.label for each in self.contenders if each.family == self.rank.baseline)

    @model_validator(mode="after")
    def _fair(self) -> ContestSpec:
        families = [contender.family for contender in self.contenders]
        # a leaderboard without the popularity baseline must never happen
        for baseline in dict.fromkeys(["popular", self.rank.baseline]):
            if baseline not in families:
                self.contenders.insert(0, ContenderSpec(label=baseline, family=baseline))
        for each in self.contenders:
            # all fields given: what differs from the contest's is still known after a way through the database
            each.prepare = None if each.prepare is None else self.prepare_of(each)
            each.tune = None if each.tune is None else self.tune_of(each)
        self.contenders += [lacking for each in self.contenders for lacking in self._ablated(each)]
        labels = [contender.label for contender in self.contenders]
        repeated = sorted({label for label in labels if labels.count(label) > 1})
        if repeated:
            raise ValueError(f"two contenders are called {repeated[0]!r}; give one another name with `as:`")
        return self

    def prepare_of(self, contender: ContenderSpec) -> PrepareSpec:
        """What a contender is trained on."""
        own = contender.prepare
        if own is None:
            return self.prepare
        return self.prepare.model_copy(update={name: getattr(own, name) for name in own.model_fields_set})

    def tune_of(self, contender: ContenderSpec) -> TuneSpec:
        """How a contender is tuned."""
        own = contender.tune
        if own is None:
            return self.tune
        return self.tune.model_copy(update={name: getattr(own, name) for name in own.model_fields_set})

    def _ablated(self, contender: ContenderSpec) -> list[ContenderSpec]:
        """The contenders that `without` makes of one; once made they stand in the list and are not made again. What
        cannot be left out makes none, and is reported where the file is checked."""
        lacked = [each.lacks for each in self.contenders if each.ablates == contender.label]
        whole = self.prepare_of(contender)
        contenders = []
        for part in contender.without:
            try:
                prepare = left_out(contender, whole, part)
            except ValueError:
                continue
            lacking = ContenderSpec(
                label=f"{contender.label}-without-{_slug(part)}"[:63],
                family=FUSED if part == SECOND_STAGE else contender.family,
                params=_params_without(contender, part),
                prepare=contender.prepare if part.partition(".")[0] in OF_THE_MODEL else prepare,
                tune=contender.tune,
                ablates=contender.label,
                lacks=part,
            )
            contenders += [lacking] if part not in lacked else []
        return contenders


def _params_without(contender: ContenderSpec, part: str) -> dict[str, Any]:
    """Of a contender that lacks a part; what is left out of the model itself is found when it is fitted."""
    if part != SECOND_STAGE:
        return contender.params
    return {"members": contender.params["members"]} if "members" in contender.params else {}


def label_of(entry: Any) -> Any:
    """What a contender of a file is called: by `as`, otherwise as its family; None where that cannot be read."""
    if isinstance(entry, str):
        return entry
    families = [key for key in entry if key not in CONTENDER_KEYS] if isinstance(entry, dict) else []
    return entry.get("as", families[0]) if len(families) == 1 else None


def _contender(entry: Any) -> Any:
    """Read the short forms of a contender."""
    if isinstance(entry, str):
        return {"label": entry, "family": entry}
    if not isinstance(entry, dict):
        raise ValueError(f"a contender is a model family, or a family with its parameters, not {entry!r}")
    if "family" in entry:
        return entry
    families = [key for key in entry if key not in CONTENDER_KEYS]
    if len(families) != 1:
        raise ValueError(f"a contender names one model family, this one names {families or 'none'}")
    params = entry[families[0]] or {}
    if not isinstance(params, dict):
        raise ValueError(f"the parameters of {families[0]} must be a mapping, not {params!r}")
    more = {key: value for key, value in entry.items() if key in CONTENDER_KEYS and key != "as"}
    return {"label": label_of(entry), "family": families[0], "params": params} | more


def left_out(contender: ContenderSpec, whole: PrepareSpec, part: str) -> PrepareSpec:
    """A preparation without one part of it, all fields given; the whole where features or members are left out, for
    these are no part of it. Raises ValueError where there is no such part."""
    field, _, name = part.partition(".")
    if field in OF_THE_MODEL and not (name and field in (SECOND_STAGE, LAYERS)):
        return whole
    if field not in LEFT_OUT or (name and field not in ("kinds", "transform")):
        can = (
            "features, features.COLUMN, members.NAME, second_stage, layers, kinds, kinds.NAME, "
            "half_life_days, drop_users_over, transform or transform.NAME"
        )
        raise ValueError(f"{contender.label} without {part!r}: what is left out can be {can}")
    gone: Any = None
    if field == "kinds" and name and not whole.kinds:
        field, gone = "drop_kinds", [*whole.drop_kinds, name]
    elif field == "kinds" and name:
        gone = {key: weight for key, weight in whole.kinds.items() if key != name}
    elif field == "kinds":
        gone = dict.fromkeys(whole.kinds, 1.0)
    elif field == "transform":
        gone = [step for step in whole.transform if name and step.name != name]
    if gone == getattr(whole, field) or (field == "kinds" and not gone):
        raise ValueError(f"{contender.label} without {part!r}: its preparation has nothing of that to leave out")
    return PrepareSpec.model_validate(whole.model_dump() | {field: gone})


def _slug(part: str) -> str:
    """What is left out, as part of a name."""
    return re.sub("[^a-z0-9_-]+", "-", part.removeprefix("kinds.").removeprefix("transform.").lower()).strip("-")


MAX_CHARACTERS = 131_072
"""Characters of a file and of those that it names, together."""


class FileRequest(Message):
    """A contest or shelf file, as text."""

    file: str = Field(min_length=1, max_length=65_536, description="YAML 1.2")
    name: str = Field("file.yaml", max_length=200, description="What to call it in messages.")
    files: dict[FileName, FileText] = Field({}, max_length=10, description="Files that it names, by their names.")

    @model_validator(mode="after")
    def _bounded(self) -> FileRequest:
        n_characters = len(self.file) + sum(map(len, self.files.values()))
        if n_characters > MAX_CHARACTERS:
            raise ValueError(f"the files have {n_characters:,} characters, and at most {MAX_CHARACTERS:,} together")
        return self
