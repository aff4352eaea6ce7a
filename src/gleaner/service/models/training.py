"""Training asked for: what is filled in, what it will take, what is refused."""

from __future__ import annotations

import os

from sqlalchemy import Connection

from gleaner.core.data.tables.context_encoder import TIME_PARTS
from gleaner.core.errors import ConflictError, InputError, ParameterError, near
from gleaner.core.metrics.catalogue import RANKING, VALUES, MetricReference
from gleaner.core.models.base.capabilities import PredictsValues
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.facts import FamilyFacts
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.base.registry import build, family, groups
from gleaner.core.parallel import default_threads
from gleaner.jobs.contests.declarations import preparation_of, recipe_of, split_of
from gleaner.service.expected_time import ExpectedTime, expected_time
from gleaner.settings import Settings
from gleaner.store import datasets, models
from gleaner.store.records.datasets import VersionRecord
from gleaner.wire.contests.contest import PrepareSpec
from gleaner.wire.models.training import Estimate, Family, TrainRequest
from gleaner.wire.names import plain_name

JUDGES = f"{', '.join(VALUES)}, or {', '.join(RANKING)} at a cut-off, as in ndcg@10"
STARTED_S = 1.0
"""Reading and preparing, beside the fit."""
MEMORY_SHARE = 0.75
BEGUN_S = 0.1
"""Of each fit, whatever its size: loading kernels, first passes."""


def families() -> list[Family]:
    """Every model family, in the registry's order."""
    return [_family(group, FamilyFacts.of(each)) for group, members in groups().items() for each in members]


def _family(group: str, facts: FamilyFacts) -> Family:
    return Family(
        family=facts.family,
        group=group,
        summary=facts.summary,
        feedback=facts.feedback,
        source=facts.source,
        unfit=facts.unfit,
        cost=facts.cost,
        predicts_values=facts.predicts_values,
        takes_features=facts.takes_features,
        takes_context=facts.takes_context,
        folds_in=facts.folds_in,
        folds_in_items=facts.folds_in_items,
        personal=facts.personal,
        params=family(facts.family)().params(),
        meanings={each.name: each.meaning for each in facts.parameters},
    )


def filled(connection: Connection, request: TrainRequest) -> TrainRequest:
    """The request with what another model lends, checked. Raises InputError or UnknownNameError."""
    lender = request.refresh or request.like
    if request.refresh and request.like:
        raise InputError("refresh goes on from a model and like copies one: give one of the two", where="like")
    if lender is not None:
        lent = models.get(connection, lender)
        if request.family not in ("", lent.family):
            raise InputError(f"{lender} is of family {lent.family}, not {request.family}", where="family")
        prepare = request.prepare if request.prepare != PrepareSpec() else PrepareSpec.model_validate(lent.prepare)
        changes = {"family": lent.family, "params": lent.params | request.params, "prepare": prepare}
        name = request.name or plain_name(lent.name)
        request = request.model_copy(update=changes | {"name": name})
    if not request.family:
        raise InputError("name a family, or a model to be like or to refresh", where="family")
    model = build(request.family, request.params)
    for text in not_installed(model):
        raise InputError(text, where="family")
    preparation_of(request.prepare)
    split_of(request.split, request.seed)
    _check_watch(request, predicts_values=isinstance(model, PredictsValues))
    version = datasets.version(connection, request.data)
    mistake = unfit_feedback(request.family, request.prepare, has_values=version.profile.values is not None)
    if mistake:
        raise InputError(mistake, where="family")
    for where, text in missing_columns(model, version).items():
        raise InputError(text, where=f"params.{where}")
    return request.model_copy(update={"data": version.name})


def missing_columns(model: Model, version: VersionRecord) -> dict[str, str]:
    """What a model would look at and the version's tables do not have, by parameter."""
    missing = {}
    tables = {
        "item_columns": [each.name for each in version.item_columns if each.name != "id"],
        "user_columns": [each.name for each in version.user_columns if each.name != "id"],
        "context_columns": [each.name for each in version.context_columns]
        + [*(TIME_PARTS if version.profile.span else ())],
    }
    for where, named in model.columns_given().items():
        there = tables[where]
        lacking = [name for name in named or [] if name not in there]
        if lacking:
            missing[where] = no_column(lacking[0], there)
    if FamilyFacts.of(type(model)).needs_features and not version.item_columns:
        missing["item_columns"] = f"{model.family} looks at columns of an item table, and {version.name} has none"
    return missing


def not_installed(model: Model) -> list[str]:
    """What has to be installed before the model, or one that it is made of, can be fitted here."""
    lacking = {each.family: each.lacks_to_learn() for each in (model, *model.members_of())}
    how = "install it where the worker runs, or take another family"
    return [f"{name} learns with {missing}; {how}" for name, missing in lacking.items() if missing is not None]


def no_column(name: str, there: list[str]) -> str:
    """That a table has no such column."""
    return f"there is no column {name!r}{near(name, there)}"


def unfit_feedback(of: str, prepare: PrepareSpec, *, has_values: bool) -> str | None:
    """Why a family cannot take what a preparation makes; None where it can."""
    if family(of).feedback != "explicit":
        return None
    if not has_values:
        return f"{of} predicts values, and the data has no value column"
    recipe = recipe_of(prepare, has_values=True)
    if recipe is None:
        return None
    if not recipe.values:
        return f"{of} predicts values: prepare with `use: values`, so that values are not weighed away"
    if prepare.half_life_days is not None:
        return f"{of} predicts values as they were given, and half_life_days would shrink old ones: leave it out"
    if recipe.weighs:
        return f"{of} predicts values as they were given, and weights of kinds would change them: let each be 1"
    return None


def _check_watch(request: TrainRequest, *, predicts_values: bool) -> None:
    try:
        metric = MetricReference.parse(request.watch.metric)
    except ParameterError:
        text = f"{request.watch.metric!r} cannot judge a fit; it can be judged by {JUDGES}"
        raise InputError(text, where="watch.metric") from None
    if metric.metric.sort not in ("ranking", "values") or metric.sign == 0:
        raise InputError(f"{metric.label} cannot judge a fit; it can be judged by {JUDGES}", where="watch.metric")
    if metric.of_values and not predicts_values:
        raise InputError(f"{request.family} predicts no values, so {metric.name} cannot judge it", where="watch.metric")


def estimated(connection: Connection, request: TrainRequest, settings: Settings) -> Estimate:
    """What the fit will take: from the family's formula, corrected by what its last fits took here."""
    version = datasets.version(connection, request.data)
    shape, cells = (version.users, version.items), version.rows
    about = family(request.family)
    params = build(request.family, request.params).params()
    cost = about.cost(params, shape, cells)
    based_on = "the method's count of operations; no fit of this family has run here yet"
    ratios = [
        took / (BEGUN_S + about.cost(params, shape, cells).seconds(default_threads()))
        for params, shape, cells, took in models.paces(connection, request.family)
    ]
    if ratios:
        based_on = "the method's count of operations, corrected by what earlier fits took here"
    fit = expected_time(BEGUN_S + cost.seconds(default_threads()), ratios)
    expected = fit + ExpectedTime(STARTED_S, STARTED_S, STARTED_S)
    return _limited(request, shape, cells, expected, cost, settings, based_on)


def counted_seconds(request: TrainRequest, shape: tuple[int, int], cells: int) -> float:
    """Return the seconds of a fit by its count of operations alone, on a matrix of users, items and cells."""
    params = build(request.family, request.params).params()
    return BEGUN_S + family(request.family).cost(params, shape, cells).seconds(default_threads())


def _limited(
    request: TrainRequest,
    shape: tuple[int, int],
    cells: int,
    expected: ExpectedTime,
    cost: Cost,
    settings: Settings,
    based_on: str,
) -> Estimate:
    machine = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") / 1e6
    limit_mb = settings.train_memory_mb or MEMORY_SHARE * machine
    memory = cost.memory_mb(cells)
    over = []
    if expected.seconds > settings.train_seconds:
        over.append(
            f"{expected.seconds:,.0f} s, and the limit is {settings.train_seconds:,.0f} s (GLEANER_TRAIN_SECONDS)"
        )
    if memory > limit_mb:
        over.append(f"{memory:,.0f} MB, and the limit is {limit_mb:,.0f} MB (GLEANER_TRAIN_MEMORY_MB)")
    return Estimate(
        family=request.family,
        users=shape[0],
        items=shape[1],
        cells=cells,
        seconds=expected.seconds,
        seconds_low=expected.low,
        seconds_high=expected.high,
        memory_mb=memory,
        limit_seconds=settings.train_seconds,
        limit_memory_mb=limit_mb,
        over=over,
        based_on=based_on,
    )


def require_allowed(estimate: Estimate, confirmed: bool) -> None:
    """Raise ConflictError where a fit is over a limit and nobody said to do it all the same."""
    if estimate.over and not confirmed:
        text = "; ".join(estimate.over)
        raise ConflictError(f"this fit is estimated to take {text}; confirm to train all the same", where="confirm")
