"""Every mistake of a contest file at once, before any work is queued."""

from __future__ import annotations

from sqlalchemy import Connection

from gleaner.core.errors import GleanerError
from gleaner.core.metrics.ranking import METRICS
from gleaner.core.models.registry import FAMILIES, build
from gleaner.jobs.divide import preparation_of, split_of
from gleaner.service.documents import Document
from gleaner.service.training import unfit_feedback
from gleaner.store import datasets
from gleaner.wire.common import FieldProblem
from gleaner.wire.contests import ContestSpec, DivideRequest, PrepareSpec, SplitSpec, WindowSpec
from gleaner.wire.datasets import DatasetVersion


def checked(document: Document, connection: Connection) -> tuple[ContestSpec, DatasetVersion]:
    """The contest, and the version it is about. Raises FieldsError listing all mistakes with their lines."""
    spec = document.read(ContestSpec)
    found = _metric_mistakes(document, spec) + _contender_mistakes(document, spec)
    version: DatasetVersion | None = None
    try:
        version = datasets.version(connection, spec.data)
        found += _data_mistakes(document, spec, version) + _feedback_mistakes(document, spec, version)
    except GleanerError as error:
        found.append(document.problem(("data",), error.message))
    if found or version is None:
        raise document.refuse(found)
    return spec, version


def _metric_mistakes(document: Document, spec: ContestSpec) -> list[FieldProblem]:
    return [
        document.problem(("rank", "metrics", place), f"there is no metric {name!r}; there are: {', '.join(METRICS)}")
        for place, name in enumerate(spec.rank.metrics)
        if name not in METRICS
    ]


def _contender_mistakes(document: Document, spec: ContestSpec) -> list[FieldProblem]:
    found = []
    # a baseline that was added stands first and has no line of its own
    added = len(spec.contenders) - len(document.tree["contenders"])
    for place, contender in enumerate(spec.contenders[added:]):
        try:
            model = build(contender.family, contender.params)
        except GleanerError as error:
            path = ("contenders", place, contender.family, error.where)
            found.append(document.problem(path, error.message))
            continue
        if spec.split.by == "users" and model.personal and not model.folds_in:
            text = f"{contender.family} cannot serve users it never saw, as a split by users asks"
            found.append(document.problem(("contenders", place), text))
    return found


def _feedback_mistakes(document: Document, spec: ContestSpec, version: DatasetVersion) -> list[FieldProblem]:
    """Contenders that predict values where there are none."""
    found = []
    added = len(spec.contenders) - len(document.tree["contenders"])
    for place, contender in enumerate(spec.contenders[added:]):
        if contender.family in FAMILIES:
            text = unfit_feedback(contender.family, spec.prepare, has_values=version.profile.values is not None)
            if text:
                found.append(document.problem(("contenders", place), text))
    return found


def division(document: Document, version: DatasetVersion) -> DivideRequest:
    """Preparation and split of a file, which may be a whole contest. Raises FieldsError listing all mistakes."""
    if "contest" in document.tree:
        spec = document.read(ContestSpec)
        asked = DivideRequest(prepare=spec.prepare, split=spec.split, seed=spec.seed)
    else:
        asked = document.read(DivideRequest)
    found = _division_mistakes(document, asked.prepare, asked.split, asked.seed, version)
    if found:
        raise document.refuse(found)
    return asked


def _data_mistakes(document: Document, spec: ContestSpec, version: DatasetVersion) -> list[FieldProblem]:
    found = _division_mistakes(document, spec.prepare, spec.split, spec.seed, version)
    if max(spec.rank.at) > version.items:
        text = f"k = {max(spec.rank.at)} is more than the {version.items} items of {version.name}"
        found.append(document.problem(("rank", "at"), text))
    return found


def _division_mistakes(
    document: Document, prepare: PrepareSpec, split: SplitSpec, seed: int, version: DatasetVersion
) -> list[FieldProblem]:
    """What the preparation or the split asks for and the data, or the methods, do not have."""
    found = []
    profile = version.profile
    kinds = {count.kind for count in profile.kinds or [] if count.kind is not None}
    for field, names in (("kinds", list(prepare.kinds)), ("drop_kinds", prepare.drop_kinds)):
        for kind in names:
            if kind not in kinds:
                has = f"it has: {', '.join(sorted(kinds))}" if kinds else "it has no kind column"
                path = ("prepare", field, kind) if field == "kinds" else ("prepare", field)
                found.append(document.problem(path, f"{version.name} has no kind {kind!r}; {has}"))
    dated = profile.span is not None
    needs_time: list[tuple[tuple[str, ...], str]] = []
    if split.by in ("time", "last"):
        needs_time.append((("split", "by"), f"a split by {split.by}"))
    if prepare.window != WindowSpec():
        needs_time.append((("prepare", "window"), "a window"))
    if prepare.half_life_days is not None:
        needs_time.append((("prepare", "half_life_days"), "a half-life"))
    if prepare.merge == "latest":
        needs_time.append((("prepare", "merge"), "merging by the latest"))
    found += [
        document.problem(path, f"{what} needs times, and {version.name} has none")
        for path, what in needs_time
        if not dated
    ]
    if split.by == "given" and not version.parts:
        text = f"{version.name} was not imported as files split beforehand"
        found.append(document.problem(("split", "by"), text))
    wants_values = [name for name in ("use", "like_from") if getattr(prepare, name) not in (None, "weights")]
    if wants_values and profile.values is None:
        found.append(document.problem(("prepare", wants_values[0]), f"{version.name} has no values"))
    for where, make in (("prepare", lambda: preparation_of(prepare)), ("split", lambda: split_of(split, seed))):
        try:
            make()
        except GleanerError as error:
            name = (error.where or "").rpartition(".")[2]
            fields = type(prepare).model_fields if where == "prepare" else type(split).model_fields
            field = name if name in fields else "transform"
            found.append(document.problem((where, field), error.message))
    return found
