"""Mistakes in a preparation: what it asks for and the data, or the methods, do not have."""

from __future__ import annotations

from typing import Any

from gleaner.core.errors import GleanerError, near
from gleaner.jobs.contests.declarations import preparation_of
from gleaner.service.http.documents import Document
from gleaner.store.records.datasets import VersionRecord
from gleaner.wire.common import FieldProblem
from gleaner.wire.contests.contest import PrepareSpec


def no_kind(kind: str, version: VersionRecord) -> str | None:
    """That the data have no such kind; None where they have."""
    kinds = {count.kind for count in version.profile.kinds or [] if count.kind is not None}
    if kind in kinds:
        return None
    has = near(kind, sorted(kinds)) if kinds else "; it has no kind column"
    return f"{version.name} has no kind {kind!r}{has}"


def preparation_mistakes(
    document: Document, prepare: PrepareSpec, version: VersionRecord, path: tuple[Any, ...] = ("prepare",)
) -> list[FieldProblem]:
    """Every mistake of the preparation that stands at a path of the file."""
    problems = []
    profile = version.profile
    for field, names in (("kinds", list(prepare.kinds)), ("drop_kinds", prepare.drop_kinds)):
        for kind in names:
            text = no_kind(kind, version)
            if text is not None:
                where = (*path, field, kind) if field == "kinds" else (*path, field)
                problems.append(document.problem(where, text))
    try:
        needs = preparation_of(prepare).needs()
    except GleanerError as error:
        name = (error.where or "").rpartition(".")[2]
        field = name if name in type(prepare).model_fields else "transform"
        return [*problems, document.problem((*path, field), error.message)]
    for field, column, what in needs:
        if column == "time" and profile.span is None:
            problems.append(document.problem((*path, field), f"{what} needs times, and {version.name} has none"))
        elif column == "value" and profile.values is None:
            problems.append(document.problem((*path, field), f"{version.name} has no values"))
    return problems
