"""Every mistake of a contest file at once, before any work is queued."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Connection

from gleaner.core.errors import GleanerError, near
from gleaner.core.metrics.catalogue import LIKELIHOOD, METRICS, any_of_values, metric_of
from gleaner.jobs.contests.declarations import recipe_of, split_of
from gleaner.service.contests.contender_check import contender_mistakes, data_mistakes
from gleaner.service.contests.shelves_check import unread_shelf, with_shelves
from gleaner.service.datasets.preparation_check import preparation_mistakes
from gleaner.service.http.documents import Document
from gleaner.service.models.training import unfit_feedback
from gleaner.store import datasets
from gleaner.store.records.datasets import VersionRecord
from gleaner.wire.common import FieldProblem
from gleaner.wire.contests.contest import ContestSpec, PrepareSpec, SplitSpec, label_of
from gleaner.wire.contests.runs import DivideRequest


def checked(document: Document, connection: Connection, files: Mapping[str, str]) -> tuple[ContestSpec, VersionRecord]:
    """The contest, and the version it is about. files: those that it names, by name. Raises FieldsError listing all
    mistakes with their lines."""
    spec, version, problems = looked_at(document, connection, files)
    if problems or spec is None or version is None:
        raise document.refuse(problems)
    return spec, version


def looked_at(
    document: Document, connection: Connection, files: Mapping[str, str]
) -> tuple[ContestSpec | None, VersionRecord | None, list[FieldProblem]]:
    """The contest as far as it can be read, the version it is about, and every mistake, line by line."""
    instead = {"contest": "unnamed", "contenders": ["popular"]}
    spec, problems = document.read_what_is_right(
        ContestSpec, instead, {"contenders": _mended, "shelves": unread_shelf}, _repeated(document)
    )
    if spec is None:
        return None, None, problems
    problems += _metric_mistakes(document, spec) + contender_mistakes(document, spec)
    version: VersionRecord | None = None
    try:
        version = datasets.version(connection, spec.data)
        problems += _data_mistakes(document, spec, version) + data_mistakes(document, spec, version)
    except GleanerError as error:
        problems.append(document.problem(("data",), error.message))
    problems += with_shelves(document, spec, version, files, connection)
    return spec, version, sorted(problems, key=lambda each: each.line or 0)


def _repeated(document: Document) -> list[tuple[tuple[Any, ...], str]]:
    """Contenders that are called as one before them, with their places."""
    listed = document.tree.get("contenders")
    labels = [label_of(each) for each in listed] if isinstance(listed, list) else []
    text = "two contenders are called {!r}; give one another name with `as:`"
    return [
        (("contenders", place, "label"), text.format(label))
        for place, label in enumerate(labels)
        if label is not None and label in labels[:place]
    ]


def _mended(place: int, entry: Any, wrong: tuple[Any, ...]) -> Any:
    """A contender without what is wrong of it, so that the rest of it can be looked at."""
    other_name = {"as": f"unread-{place}"}
    if wrong[:1] == ("label",):
        return (entry if isinstance(entry, dict) else {entry: {}}) | other_name
    if isinstance(entry, dict) and wrong and wrong[0] in entry:
        return {key: value for key, value in entry.items() if key != wrong[0]}
    return {"popular": {}} | other_name


def _metric_mistakes(document: Document, spec: ContestSpec) -> list[FieldProblem]:
    problems = []
    for place, name in _written_metrics(document, spec):
        path = ("rank", "metrics", place)
        if name not in METRICS:
            problems.append(document.problem(path, f"there is no metric {name!r}{near(name, METRICS)}"))
            continue
        needs = METRICS[name].needs
        if needs == "values":
            continue
        if needs and not getattr(spec.rank, needs):
            problems.append(document.problem(path, f"{name} needs item columns: name them in rank.{needs}"))
    deciding = metric_of(spec.rank.decide_by)
    if deciding is not None and deciding.sign == 0:
        text = f"{deciding.name} cannot decide: neither more nor less of it is better"
        problems.append(document.problem(("rank", "decide_by"), text))
    if deciding is not None and deciding.sort == "likelihood":
        text = f"{deciding.name} cannot decide: families without a likelihood, such as the baseline, have none"
        problems.append(document.problem(("rank", "decide_by"), text))
    return problems


def _written_metrics(document: Document, spec: ContestSpec) -> list[tuple[int, str]]:
    """The metrics with their places in the file, where one may stand twice."""
    rank = document.tree.get("rank")
    listed = rank.get("metrics") if isinstance(rank, dict) else None
    places = listed if isinstance(listed, list) else spec.rank.metrics
    return [(places.index(name), name) for name in spec.rank.metrics if name in places]


def division(document: Document, version: VersionRecord) -> DivideRequest:
    """Preparation and split of a file, which may be a whole contest. Raises FieldsError listing all mistakes."""
    if "contest" in document.tree:
        spec = document.read(ContestSpec)
        request = DivideRequest(prepare=spec.prepare, split=spec.split, seed=spec.seed)
    else:
        request = document.read(DivideRequest)
    problems = _division_mistakes(document, request.prepare, request.split, request.seed, version)
    if problems:
        raise document.refuse(problems)
    return request


def _data_mistakes(document: Document, spec: ContestSpec, version: VersionRecord) -> list[FieldProblem]:
    problems = _division_mistakes(document, spec.prepare, spec.split, spec.seed, version)
    if max(spec.rank.at) > version.items:
        text = f"k = {max(spec.rank.at)} is more than the {version.items} items of {version.name}"
        problems.append(document.problem(("rank", "at"), text))
    named = [("content", name) for name in spec.rank.content]
    named += [("categories", spec.rank.categories)] if spec.rank.categories else []
    columns = [column.name for column in version.item_columns if column.name != "id"]
    for field, name in named:
        if name not in columns:
            has = near(name, columns) if columns else "; it was imported without one"
            text = f"the item table of {version.name} has no column {name!r}{has}"
            problems.append(document.problem(("rank", field), text))
    for place, name in _written_metrics(document, spec):
        wrong = _no_values(spec, version) if any_of_values([name]) else _no_likelihood(spec, name)
        if wrong:
            problems.append(document.problem(("rank", "metrics", place), f"{name} {wrong}"))
    if spec.rank.relevant.at_least is not None and _is_plain(spec, version):
        text = "every row counts the same here: no value and no weight of a kind could be below or above"
        problems.append(document.problem(("rank", "relevant"), text))
    return problems


def _no_values(spec: ContestSpec, version: VersionRecord) -> str | None:
    """Why predicted values cannot be scored; None where they can."""
    unfit = unfit_feedback("mean_value", spec.prepare, has_values=version.profile.values is not None)
    if unfit:
        return f"scores predicted values: {unfit.partition(', and ')[2] or unfit.partition(': ')[2]}"
    if spec.prepare.transform:
        return "scores values as they were given, and prepare.transform changes them"
    if spec.split.by == "users":
        return "scores predicted values, which nobody predicts for users held out whole"
    return None


def _no_likelihood(spec: ContestSpec, name: str) -> str | None:
    """Why chances cannot be scored; None where they can, or the metric does not look at them."""
    if name not in LIKELIHOOD:
        return None
    if spec.split.by == "users":
        return "scores chances of users that training knows, and a split by users holds them out whole"
    if not spec.split.validation and spec.split.by != "given":
        return "scores chances that are calibrated on the validation part, and split.validation is 0"
    return None


def _is_plain(spec: ContestSpec, version: VersionRecord) -> bool:
    """Whether rows have neither values nor weights, so that a threshold says nothing."""
    recipe = recipe_of(spec.prepare, has_values=version.profile.values is not None)
    return recipe is not None and recipe.is_plain and version.profile.values is None


def _division_mistakes(
    document: Document, prepare: PrepareSpec, split: SplitSpec, seed: int, version: VersionRecord
) -> list[FieldProblem]:
    """What the preparation or the split asks for and the data, or the methods, do not have."""
    problems = preparation_mistakes(document, prepare, version)
    if split.by in ("time", "last") and version.profile.span is None:
        text = f"a split by {split.by} needs times, and {version.name} has none"
        problems.append(document.problem(("split", "by"), text))
    if split.by == "given" and not version.parts:
        text = f"{version.name} was not imported as files split beforehand"
        problems.append(document.problem(("split", "by"), text))
    try:
        split_of(split, seed)
    except GleanerError as error:
        name = (error.where or "").rpartition(".")[2]
        problems.append(
            document.problem(("split", name) if name in type(split).model_fields else ("split",), error.message)
        )
    return problems
