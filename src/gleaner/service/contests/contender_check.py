"""Mistakes in the contenders of a contest file: families, parameters and their ranges, own preparations, tuning."""

from __future__ import annotations

from typing import Any

from gleaner.core.errors import GleanerError, ParameterError
from gleaner.core.metrics.catalogue import metric_of
from gleaner.core.models.base.capabilities import PredictsValues, folding
from gleaner.core.models.base.facts import FamilyFacts
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.base.registry import FAMILIES, build, family
from gleaner.core.models.composition.depth import without_layers
from gleaner.core.models.composition.members import without_member
from gleaner.core.tuning.space import settled, space_of
from gleaner.service.datasets.preparation_check import no_kind, preparation_mistakes
from gleaner.service.http.documents import Document
from gleaner.service.models.training import missing_columns, no_column, not_installed, unfit_feedback
from gleaner.store.records.datasets import VersionRecord
from gleaner.wire.common import FieldProblem
from gleaner.wire.contests.contest import FEATURES, LAYERS, MEMBERS, SECOND_STAGE, ContenderSpec, ContestSpec, left_out

Place = tuple[int, ContenderSpec]


def written(document: Document, spec: ContestSpec) -> list[Place]:
    """The contenders of the file with their places in it; none where they could not be read. Baselines that were
    added stand first, and what `without` made stands last: neither has a line."""
    listed = document.tree.get("contenders")
    own = [each for each in spec.contenders if each.ablates is None]
    if not isinstance(listed, list) or len(listed) > len(own):
        return []
    return list(enumerate(own[len(own) - len(listed) :]))


def contender_mistakes(document: Document, spec: ContestSpec) -> list[FieldProblem]:
    """What can be told without the data."""
    problems = []
    for place, contender in written(document, spec):
        path: tuple[Any, ...] = ("contenders", place)
        model, wrong = _built(document, contender, path)
        problems += wrong
        if model is None or wrong:
            continue
        problems += [document.problem(path, text) for text in not_installed(model)]
        if spec.split.by == "users" and model.personal and folding(model) is None:
            text = f"{contender.family} cannot serve users it never saw, as a split by users asks"
            problems.append(document.problem(path, text))
        problems += _tuning_mistakes(document, spec, contender, path)
        for part in contender.without:
            why_not = _not_left_out(spec, contender, model, part)
            if why_not:
                problems.append(document.problem((*path, "without"), why_not))
    if not spec.split.validation and spec.split.by != "given" and spec.curves != type(spec.curves)():
        problems.append(document.problem(("curves",), "learning curves are of the validation part, and there is none"))
    return problems


def _built(
    document: Document, contender: ContenderSpec, path: tuple[Any, ...]
) -> tuple[Model | None, list[FieldProblem]]:
    """The model without the parameters that are wrong, and what is wrong with each of them."""
    params, problems = dict(contender.params), list[FieldProblem]()
    while True:
        try:
            return build(contender.family, settled(contender.family, params)), problems
        except GleanerError as error:
            known = contender.family in FAMILIES
            problems.append(document.problem((*path, contender.family, error.where) if known else path, error.message))
            name = (error.where or "").partition(".")[0]
            if not known or params.pop(name, None) is None:
                return None, problems


def _not_left_out(spec: ContestSpec, contender: ContenderSpec, model: Model, part: str) -> str | None:
    """Why a part cannot be left out; None where it can."""
    if part.partition(".")[0] == FEATURES and not model.columns_given():
        takers = ", ".join(each.family for each in map(FamilyFacts.of, FAMILIES.values()) if each.takes_features)
        return f"{contender.family} chooses no columns, so none can be left out; those that do: {takers}"
    if part == FEATURES and FamilyFacts.of(type(model)).needs_features:
        return f"{contender.family} is nothing without features; leave out one column, as in features.COLUMN"
    if part == SECOND_STAGE and contender.family != SECOND_STAGE:
        return f"{contender.label} without {part!r}: {contender.family} has no learned order to leave out"
    if part == SECOND_STAGE and len(model.params()["members"]) < 2:
        return f"{contender.label} without {part!r}: nothing is left to put one member in order with"
    of, _, name = part.partition(".")
    try:
        if of == MEMBERS:
            without_member(contender.family, settled(contender.family, contender.params), name)
        if part == LAYERS:
            without_layers(contender.family, settled(contender.family, contender.params))
        left_out(contender, spec.prepare_of(contender), part)
    except (ParameterError, ValueError) as error:
        return str(error)
    return None


def _tuning_mistakes(
    document: Document, spec: ContestSpec, contender: ContenderSpec, path: tuple[Any, ...]
) -> list[FieldProblem]:
    if not contender.tuned:
        if contender.tune is not None:
            text = f"{contender.label} has no parameter with a range, so there is nothing to tune"
            return [document.problem((*path, "tune"), text)]
        return []
    if spec.split.by == "folds":
        text = "folds score every row once, so parameters would be chosen on what is scored; divide another way to tune"
        return [document.problem(path, text)]
    if not spec.split.validation and spec.split.by != "given":
        return [document.problem(path, "tuning decides on the validation part, and split.validation is 0")]
    deciding = metric_of(spec.rank.decide_by)
    if deciding is not None and deciding.sort == "values" and not issubclass(family(contender.family), PredictsValues):
        text = f"{contender.family} predicts no values, so it cannot be tuned on {deciding.name}"
        return [document.problem(path, text)]
    if spec.tune_of(contender).search == "grid":
        try:
            space_of(contender.family, contender.params).grid()
        except GleanerError as error:
            return [document.problem((*path, contender.family, error.where), error.message)]
    return []


def data_mistakes(document: Document, spec: ContestSpec, version: VersionRecord) -> list[FieldProblem]:
    """What a contender asks of the data that it does not have."""
    problems = []
    for place, contender in written(document, spec):
        path = ("contenders", place)
        if contender.family in FAMILIES:
            prepare = spec.prepare_of(contender)
            text = unfit_feedback(contender.family, prepare, has_values=version.profile.values is not None)
            if text:
                problems.append(document.problem(path, text))
            problems += _column_mistakes(document, contender, version, path)
        for part in contender.without:
            of, _, kind = part.partition(".")
            text = no_kind(kind, version) if of == "kinds" and kind else None
            if text is not None:
                problems.append(document.problem((*path, "without"), f"{contender.label} without {part!r}: {text}"))
        if contender.prepare is not None:
            problems += _own_mistakes(document, spec, contender, version, (*path, "prepare"))
    return problems


def _column_mistakes(
    document: Document, contender: ContenderSpec, version: VersionRecord, path: tuple[Any, ...]
) -> list[FieldProblem]:
    """Columns that a contender looks at, or leaves out, and the tables do not have."""
    try:
        model = build(contender.family, settled(contender.family, contender.params))
    except GleanerError:
        return []
    problems = [
        document.problem((*path, contender.family, where), text)
        for where, text in missing_columns(model, version).items()
    ]
    columns = [*version.item_columns, *version.user_columns, *version.context_columns]
    there = {each.name for each in columns if each.name != "id"}
    for part in contender.without:
        of, _, name = part.partition(".")
        if of == FEATURES and name and name not in {"items", "users", "context"} | there:
            text = f"{contender.label} without {part!r}: {no_column(name, sorted(there))}"
            problems.append(document.problem((*path, "without"), text))
    return problems


def _own_mistakes(
    document: Document, spec: ContestSpec, contender: ContenderSpec, version: VersionRecord, path: tuple[Any, ...]
) -> list[FieldProblem]:
    """An own preparation acts on what the common one keeps, and on training rows alone."""
    assert contender.prepare is not None
    problems = preparation_mistakes(document, contender.prepare, version, path)
    for kind in contender.prepare.kinds:
        dropped = kind in spec.prepare.drop_kinds or (spec.prepare.kinds and kind not in spec.prepare.kinds)
        if dropped:
            text = f"the contest's own preparation drops kind {kind!r}, so no contender can be trained on it"
            problems.append(document.problem((*path, "kinds", kind), text))
    if contender.prepare.transform and spec.rank.values:
        text = "value metrics score values as they were given, and transform changes them"
        problems.append(document.problem((*path, "transform"), text))
    return problems
