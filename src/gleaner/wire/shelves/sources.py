"""Where a shelf's candidates come from, how they are scored and ordered, and what serves the unknown."""

from __future__ import annotations

from pydantic import Field, model_validator

from gleaner.wire.common import Message

MAX_TAKE = 2000
MAX_ITEMS = 2000
TAKE = 200


class PopularSpec(Message):
    """What has most rows in the days up to the newest row, of the version or of events since."""

    days: float = Field(gt=0, le=3650)
    kinds: list[str] = Field([], max_length=64, description="Rows of these kinds only; empty: all.")


class TrendingSpec(PopularSpec):
    """What has more rows in those days than its share in the usual days before leads one to expect."""

    usual_days: float = Field(365, gt=0, le=3650)


class LikeSpec(Message):
    """Items most like those touched last: named in the request, else of events, else of the version."""

    model: str = Field(description="As which sees it.")
    last: int = Field(3, ge=1, le=50, description="How many of those touched last.")


class TogetherSpec(Message):
    """Items that go with all those touched last, or named in the request, as a basket."""

    model: str = Field(description="As which sees it; one that folds in, such as an association model.")
    last: int = Field(10, ge=1, le=50)


class LookalikesSpec(Message):
    """What the nearest users by columns of the user table would be shown, merged."""

    columns: list[str] = Field(min_length=1, max_length=50)
    users: int = Field(50, ge=1, le=1000, description="How many of the nearest.")


ONE_OF = ("model", "popular", "trending", "like", "together", "items", "shelf")


class CandidateSpec(Message):
    """One source of candidates, and how many it may bring."""

    model: str | None = Field(None, description="The best of a model for who asks.")
    popular: PopularSpec | None = None
    trending: TrendingSpec | None = None
    like: LikeSpec | None = None
    together: TogetherSpec | None = None
    items: list[str] = Field([], max_length=MAX_ITEMS, description="A fixed list, in order.")
    shelf: str | None = Field(None, description="The list of another shelf, pinned to the version it serves now.")
    take: int | None = Field(
        None, ge=1, le=MAX_TAKE, description=f"At most so many; {TAKE} where there are several sources."
    )

    @model_validator(mode="after")
    def _one(self) -> CandidateSpec:
        given = [name for name in ONE_OF if getattr(self, name)]
        if len(given) != 1:
            raise ValueError(f"name one source, of {', '.join(ONE_OF)}; there {'are' if given else 'is'} "
                             f"{' and '.join(given) or 'none'}")  # fmt: skip
        return self

    @property
    def kind(self) -> str:
        """Which source it is."""
        return next(name for name in ONE_OF if getattr(self, name))


class FallbackSpec(Message):
    """One step for someone the shelf knows nothing of."""

    model: str | None = Field(None, description="A model that needs no history.")
    lookalikes: LookalikesSpec | None = None
    popular: PopularSpec | None = None
    trending: TrendingSpec | None = None
    items: list[str] = Field([], max_length=MAX_ITEMS)

    @model_validator(mode="after")
    def _one(self) -> FallbackSpec:
        names = ("model", "lookalikes", "popular", "trending", "items")
        given = [name for name in names if getattr(self, name)]
        if len(given) != 1:
            raise ValueError(f"name one step, of {', '.join(names)}; there {'are' if given else 'is'} "
                             f"{' and '.join(given) or 'none'}")  # fmt: skip
        return self


class ScoreSpec(Message):
    """What scores the candidates: one model, or several of which standardised scores are added."""

    model: str | None = None
    blend: dict[str, float] = Field({}, max_length=16, description="Weight by model.")

    @model_validator(mode="after")
    def _one(self) -> ScoreSpec:
        if (self.model is None) == (not self.blend):
            raise ValueError("name a model, or models to blend, one of the two")
        return self


class NewItemsSpec(Message):
    """Items of the item table that the model which scores never saw: each scored by what the model learned of its
    columns, or as the mean of the items most like it, until a model is fitted that saw it."""

    columns: list[str] | None = Field(
        None,
        min_length=1,
        max_length=50,
        description="Item columns that make items alike, each of the same weight; left out: the model scores by those "
        "that it looked at itself.",
    )
    alike: int = Field(20, ge=1, le=1000, description="How many of the most alike.")


class ApproximateSpec(Message):
    """Look the model's best up in a vector index instead of finding them exactly. Needs the optional package."""

    candidates: int = Field(400, ge=10, le=10_000, description="How many are looked up, and then scored exactly.")


class DiversifySpec(Message):
    """By maximal marginal relevance: each next item weighs its score against its likeness to those that stand."""

    weight: float = Field(ge=0, le=1, description="Of likeness: 0 is the order by score.")
    by: str | None = Field(None, description="An item column; left out: the factors of the model that scores.")


class SampleSpec(Message):
    """Drawn by chance, better ones more often; the answer says with what chance each stands at its place."""

    temperature: float = Field(gt=0, le=100, description="In standard deviations of the candidates' scores.")


class OrderSpec(Message):
    """How candidates are ordered; left out: by score."""

    diversify: DiversifySpec | None = None
    sample: SampleSpec | None = None

    @model_validator(mode="after")
    def _one(self) -> OrderSpec:
        if (self.diversify is None) == (self.sample is None):
            raise ValueError("diversify or sample, one of the two")
        return self
