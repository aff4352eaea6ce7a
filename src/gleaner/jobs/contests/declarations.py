"""What files declare, in the words of the core: preparations, splits, what is relevant, whole contests."""

from __future__ import annotations

from gleaner.core.contests.plan import Contender, ContestPlan, SearchPlan
from gleaner.core.errors import ParameterError
from gleaner.core.preparation.recipe import Preparation, Recipe
from gleaner.core.preparation.transforms import Transform
from gleaner.core.splits.split import Split
from gleaner.core.splits.truth import Relevance
from gleaner.wire.contests.contest import ContenderSpec, ContestSpec, PrepareSpec, SplitSpec, TuneSpec
from gleaner.wire.contests.rank import RankSpec


def preparation_of(spec: PrepareSpec) -> Preparation:
    """The declared preparation. Raises ParameterError."""
    plain = spec.model_dump(exclude={"window", "transform"})
    steps = tuple(Transform(step.name, tuple(step.by)) for step in spec.transform)
    return Preparation(**plain, **spec.window.model_dump(), transform=steps)


def recipe_of(spec: PrepareSpec, *, has_values: bool) -> Recipe | None:
    """What a row of the data measures; None where the preparation itself is wrong, which its own check reports."""
    try:
        return Recipe.of(preparation_of(spec), has_values=has_values)
    except ParameterError:
        return None


def split_of(spec: SplitSpec, seed: int) -> Split:
    """The declared split. Raises ParameterError or DataError."""
    given = spec.model_dump() | {"keep": tuple(spec.keep)}
    if spec.by == "last":
        given |= {"test": int(spec.test), "validation": int(spec.validation)}
    return Split(**given, seed=seed)


def relevance_of(rank: RankSpec) -> Relevance:
    """Which held-out rows are relevant."""
    return Relevance(**rank.relevant.model_dump())


def plan_of(spec: ContestSpec) -> ContestPlan:
    """The whole contest. Raises ParameterError."""
    return ContestPlan(
        contenders=[_contender(spec, each) for each in spec.contenders],
        metrics=spec.rank.metrics,
        at=spec.rank.at,
        decide_by=spec.rank.deciding,
        seed=spec.seed,
        content=spec.rank.content,
        categories=spec.rank.categories,
        every=spec.curves.every,
        amounts=spec.curves.amounts,
    )


def _contender(spec: ContestSpec, given: ContenderSpec) -> Contender:
    return Contender(
        label=given.label,
        family=given.family,
        params=given.params,
        preparation=None if given.prepare is None else preparation_of(given.prepare),
        search=_search(spec.tune_of(given)) if given.tuned else None,
        ablates=given.ablates,
        lacks=given.lacks,
    )


def _search(spec: TuneSpec) -> SearchPlan:
    return SearchPlan(spec.search, spec.attempts, spec.minutes, spec.prune)
