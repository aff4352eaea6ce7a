"""Every mistake of a shelf file at once, what its condition leaves, and a first file to begin with."""

from __future__ import annotations

import json
from collections.abc import Callable
from datetime import UTC, datetime
from difflib import ndiff
from functools import partial
from statistics import median
from typing import Any, TypeVar

import numpy as np

from gleaner.core.errors import GleanerError, near
from gleaner.core.fitted import Fitted
from gleaner.core.models.base.capabilities import factors_of
from gleaner.core.ranking.approximate import ApproximateIndex
from gleaner.core.ranking.conditions.condition import Conjunct, Masks
from gleaner.core.ranking.conditions.tokens import written
from gleaner.jobs.worker.schedules import next_after
from gleaner.service.http.documents import Document
from gleaner.service.shelves.pinning import Pinning, with_models
from gleaner.service.shelves.shelf_keeper import ShelfKeeper
from gleaner.serving.conditions import Eligible, condition_of, loading, require_user_columns
from gleaner.serving.slots import slots_of
from gleaner.serving.sources import FromItems
from gleaner.store import models
from gleaner.store.records.models import ModelRecord
from gleaner.store.records.shelves import ShelfVersionRecord
from gleaner.wire.common import FieldProblem
from gleaner.wire.names import plain_name
from gleaner.wire.shelves.shelf import (
    ConditionPart,
    Recall,
    RecommendRequest,
    RequestsSpec,
    Sampled,
    ShelfCheck,
    ShelfDifference,
    ShelfSpec,
)

SAMPLED, TOP = 200, 10
FEW = 10
Path = tuple[str | int, ...]
T = TypeVar("T")
UNREAD = {"model": "-"}
"""Stands for a source or a step that cannot be read: a dash is no name of a model."""
INSTEAD = {"shelf": "unnamed", "candidates": [UNREAD], "fallback": [UNREAD]}


def check(document: Document, keeper: ShelfKeeper, pinning: Pinning | None = None) -> ShelfCheck:
    """Return the mistakes of a file with their lines, or what its condition leaves and which models would change.

    pinning: which model each name stands for; without it a name stands for the newest model.
    """
    spec, problems = document.read_what_is_right(ShelfSpec, INSTEAD, {"candidates": _mended, "fallback": _mended})
    if spec is None:
        return ShelfCheck(problems=problems)
    report = ShelfCheck(problems=problems)
    names = [(path, name) for path, name in _named(spec) if name != UNREAD["model"]]
    if pinning is not None:
        meant = {name: _or_problem(document, report, path, partial(pinning.model, name)) for path, name in names}
        stands_for = {name: model for name, model in meant.items() if model is not None}
        names = [(path, stands_for[name]) for path, name in names if name in stands_for]
        spec = with_models(spec, stands_for)
    loaded = [_or_problem(document, report, path, partial(keeper.library.model, name)) for path, name in names]
    report.models = list(dict.fromkeys(fitted.name for fitted in loaded if fitted is not None))
    _check_schedule(document, spec, report)
    if not report.problems:
        _check_parts(document, spec, keeper, report)
    else:
        there = {name: fitted for (_, name), fitted in zip(names, loaded, strict=True) if fitted is not None}
        main = there.get(spec.main() or "") or next(iter(there.values()), None)
        if main is not None:
            _check_columns(document, spec, main, keeper, report)
    if pinning is not None and not report.problems:
        report.changes = pinning.changes(spec)
        report.warnings += _partly_trained(pinning, report.models)
    report.problems.sort(key=lambda each: each.line or 0)
    return report


def _partly_trained(pinning: Pinning, names: list[str]) -> list[str]:
    """Return a warning if models were fitted on the training part only."""
    partly = models.training_only(pinning.connection, names)
    if not partly:
        return []
    were = "was" if len(partly) == 1 else "were"
    return [
        f"{', '.join(partly)} {were} fitted on the training part only, without the newest rows: release the contest's "
        "winner to fit it on all rows"
    ]


def _check_schedule(document: Document, spec: ShelfSpec, report: ShelfCheck) -> None:
    """Compute when the shelf is refreshed next. A schedule that names no date that occurs is a problem."""
    every = spec.refresh.every if spec.refresh is not None else None
    if every is None:
        return
    report.next_refresh_at = next_after(every, datetime.now(UTC))
    if report.next_refresh_at is None:
        text = f"{every!r} names no date that occurs, such as 30 February; the shelf would never be refreshed"
        report.problems.append(document.problem(("refresh", "every"), text))


def _mended(place: int, entry: Any, wrong: Path) -> Any:
    """A source or a step without what is wrong of it, so that the rest of it can be looked at."""
    if isinstance(entry, dict) and wrong and wrong[0] in entry and len(entry) > 1:
        return {key: value for key, value in entry.items() if key != wrong[0]}
    return dict(UNREAD)


def _named(spec: ShelfSpec) -> list[tuple[Path, str]]:
    """Every model that is named, and where."""
    names: list[tuple[Path, str | None]] = []
    for place, source in enumerate(spec.candidates):
        names.append((("candidates", place, "model"), source.model))
        for part in ("like", "together"):
            inner = getattr(source, part)
            names.append((("candidates", place, part, "model"), inner.model if inner is not None else None))
    names += [(("fallback", place, "model"), step.model) for place, step in enumerate(spec.fallback)]
    if spec.score is not None:
        names.append((("score", "model"), spec.score.model))
        names += [(("score", "blend", name), name) for name in spec.score.blend]
    return [(path, name) for path, name in names if name is not None]


def _or_problem(document: Document, report: ShelfCheck, path: Path, make: Callable[[], T]) -> T | None:
    """What `make` answers, or None after the problem is reported at its place."""
    try:
        return make()
    except GleanerError as error:
        report.problems.append(document.problem(path, error.message))
        return None


def _check_parts(document: Document, spec: ShelfSpec, keeper: ShelfKeeper, report: ShelfCheck) -> None:
    """Sources, steps and order; then columns and the condition."""
    without = spec.model_copy(update={"where": None, "requests": RequestsSpec()})
    # one after the other, so that each mistake is reported at its own field
    added: dict[str, Any] = {"new_items": spec.new_items, "approximate": spec.approximate}
    tried = without.model_copy(update=dict.fromkeys(added))
    parts = _or_problem(document, report, ("fallback",), partial(keeper.parts, tried))
    for name, given in added.items():
        if parts is not None and given is not None:
            tried = tried.model_copy(update={name: given})
            parts = _or_problem(document, report, (name,), partial(keeper.parts, tried))
    if parts is None and report.problems[-1].field != "fallback":
        return
    if parts is None:
        main = keeper.library.model(spec.main() or report.models[0])
        _check_columns(document, spec, main, keeper, report)
        return
    if isinstance(parts.main.index, ApproximateIndex):
        report.recall = _recall_of(parts.main, parts.main.index)
    for place, source in enumerate(spec.candidates):
        path: Path = ("candidates", place, source.kind)
        candidates = _or_problem(document, report, path, partial(parts.source, source, keeper.version))
        if isinstance(candidates, FromItems):
            _warn_of_unknown(candidates.fixed, source.items, report)
    for place, step in enumerate(spec.fallback):
        if step.model is None:
            _or_problem(document, report, ("fallback", place), partial(parts.step, step))
    _or_problem(document, report, ("order", "diversify"), parts.require_order)
    _check_columns(document, spec, parts.main, keeper, report)


def _recall_of(main: Fitted, index: ApproximateIndex) -> Recall:
    """For users drawn at random, the same for the same model."""
    factors = factors_of(main.model)
    assert factors is not None
    users = np.random.Generator(np.random.PCG64(1)).permutation(len(factors.users))[:SAMPLED]
    return Recall(**vars(index.recall(factors.users[users], TOP)))


def _warn_of_unknown(rows: np.ndarray, items: list[str], report: ShelfCheck) -> None:
    unknown = [item for item, row in zip(items, rows, strict=True) if row < 0]
    if unknown:
        report.warnings.append(
            f"{report.models[0]} does not know {len(unknown)} of the items named, such as {unknown[0]!r}"
        )


def _check_columns(document: Document, spec: ShelfSpec, main: Fitted, keeper: ShelfKeeper, report: ShelfCheck) -> None:
    tables = keeper.tables(main)
    items, people = tables.items, tables.people
    report.items = len(main.train.items)
    for place, column in enumerate(spec.show):
        if column not in items.columns:
            text = f"there is no item column {column!r} to show{near(column, items.columns)}"
            report.problems.append(document.problem(("show", place), text))
    try:
        require_user_columns(spec.requests, people)
    except GleanerError as error:
        report.problems.append(document.problem(("requests", "user_columns"), error.message))
    try:
        slots_of(Eligible(main, items, people, None), spec.slots, pins=True)
    except GleanerError as error:
        report.problems.append(document.problem(tuple((error.where or "slots").split(".")), error.message))
    if spec.where is None:
        return
    try:
        eligible = Eligible(main, items, people, condition_of(spec.where, items, people))
    except GleanerError as error:
        report.problems.append(document.problem(("where",), error.message))
        return
    problem = _add_condition_facts(document, eligible, report)
    if problem is not None:
        report.problems.append(problem)


def _add_condition_facts(document: Document, eligible: Eligible, report: ShelfCheck) -> FieldProblem | None:
    """What the condition leaves, all together and part by part."""
    masks, condition = eligible.masks, eligible.condition
    assert masks is not None
    assert condition is not None
    nobody = eligible.bindings(RecommendRequest())
    report.context = dict(condition.context)
    for part in condition.parts:
        mask = condition.mask(part, masks.table, nobody, loading()) if part.is_fixed else None
        left = None if mask is None else int(np.count_nonzero(mask))
        report.parts.append(ConditionPart(text=part.text, depends_on=_dependencies(part), left=left))
    report.left = int(np.count_nonzero(masks.fixed))
    if report.left == 0:
        return document.problem(("where",), f"holds for none of the {report.items:,} items of {eligible.fitted.name}")
    if any(not part.context for part in masks.varying):
        report.sampled = _sample(eligible, masks)
        if report.sampled.nothing:
            share = f"{report.sampled.nothing} of {report.sampled.users} users"
            report.warnings.append(f"the condition leaves no item for {share}, whose lists would be empty")
    if not masks.varying and report.left < FEW:
        report.warnings.append(f"the condition leaves {report.left} items: most lists would be shorter than asked for")
    return None


def _dependencies(part: Conjunct) -> list[str]:
    history = ["history()"] if part.history else []
    now = ["now()"] if part.now else []
    return [*(f":user.{name}" for name in part.users), *(f":context.{name}" for name in part.context), *now, *history]


def _sample(eligible: Eligible, masks: Masks) -> Sampled:
    """The items left for users drawn at random, the same for the same model."""
    users = eligible.fitted.train.users
    rows = np.random.default_rng(1).permutation(len(users))[:SAMPLED]
    requests = (RecommendRequest.model_construct(user=user, context={}) for user in users.take(rows))
    counts = [int(np.count_nonzero(masks.allowed(eligible.bindings(each), context=False))) for each in requests]
    return Sampled(
        users=len(counts), least=min(counts), median=int(median(counts)), most=max(counts), nothing=counts.count(0)
    )


def draft(model: ModelRecord, popular: str | None, columns: list[str], flags: list[str]) -> str:
    """A commented shelf file for a model; it can be published as it is where there is a popularity model."""
    name = plain_name(model.name).replace(".", "-")
    first = f"NOT {written(flags[0])}" if flags else f"{written(columns[0])} IS NOT NULL" if columns else None
    about = "over item columns, :user.COLUMN, :context.NAME and the history"
    condition = [] if first is None else [f"# where: {json.dumps(first)}  # {about}"]
    lines = [
        f"# A shelf: where recommendations of {model.name} appear. `gleaner shelf check FILE` looks at it.",
        f"shelf: {name}"[: len("shelf: ") + 63],
        "title: Recommended for you",
        "candidates:",
        f"  - model: {model.name}  # without a number: the newest fitted on all rows, then as it is served",
        "leave_out: [known, recent]  # items the user has, and items named in the request",
        *condition,
        "fallback:",
        f"  - model: {popular or 'NAME'}  # for someone the model knows nothing of; it must need no history",
    ]
    if popular is None:
        lines.append(f"    # there is none on this data yet: gleaner model train {model.data} popular")
    if columns:
        lines += [
            f"# item columns sent along; there are: {' '.join(', '.join(columns).split())}",
            f"show: {json.dumps(columns[:4], ensure_ascii=False)}",
        ]
    return "\n".join(lines) + "\n"


def difference(before: ShelfVersionRecord, after: ShelfVersionRecord) -> ShelfDifference:
    """What changed between two versions, field by field as they are pinned, and line by line as they were written."""
    one, other = before.spec.model_dump(), after.spec.model_dump()
    lines = [line for line in ndiff(before.file.splitlines(), after.file.splitlines()) if not line.startswith("?")]
    return ShelfDifference(
        before=before.name, after=after.name, fields=[name for name in one if one[name] != other[name]], lines=lines
    )
