"""Every mistake of a contest file at once, before any work is queued."""

from __future__ import annotations

from sqlalchemy import Connection

from gleaner.core.errors import GleanerError
from gleaner.core.metrics.ranking import METRICS
from gleaner.core.models.registry import build
from gleaner.service.documents import Document
from gleaner.store import datasets
from gleaner.wire.common import FieldProblem
from gleaner.wire.contests import ContestSpec
from gleaner.wire.datasets import DatasetVersion


def checked(document: Document, connection: Connection) -> tuple[ContestSpec, DatasetVersion]:
    """The contest, and the version it is about. Raises FieldsError listing all mistakes with their lines."""
    spec = document.read(ContestSpec)
    found = _metric_mistakes(document, spec) + _contender_mistakes(document, spec)
    version: DatasetVersion | None = None
    try:
        version = datasets.version(connection, spec.data)
        found += _data_mistakes(document, spec, version)
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
            build(contender.family, contender.params)
        except GleanerError as error:
            path = ("contenders", place, contender.family, error.where)
            found.append(document.problem(path, error.message))
    return found


def _data_mistakes(document: Document, spec: ContestSpec, version: DatasetVersion) -> list[FieldProblem]:
    found = []
    profile = version.profile
    kinds = {count.kind for count in profile.kinds or [] if count.kind is not None}
    for kind in spec.prepare.kinds:
        if kind not in kinds:
            has = f"it has: {', '.join(sorted(kinds))}" if kinds else "it has no kind column"
            found.append(document.problem(("prepare", "kinds", kind), f"{version.name} has no kind {kind!r}; {has}"))
    if profile.span is None:
        found.append(document.problem(("split", "by"), f"a split by time needs times, and {version.name} has none"))
    if spec.prepare.use == "values" and profile.values is None:
        found.append(document.problem(("prepare", "use"), f"{version.name} has no values"))
    if max(spec.rank.at) > version.items:
        text = f"k = {max(spec.rank.at)} is more than the {version.items} items of {version.name}"
        found.append(document.problem(("rank", "at"), text))
    return found
