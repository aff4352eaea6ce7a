"""Shelves that a contest file names: looked up, read, and held against the contest."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Connection

from gleaner.core.errors import GleanerError, near
from gleaner.jobs.shelves.shelf_parts import require_known_users
from gleaner.service.http.documents import Document
from gleaner.service.http.problems import FieldsError
from gleaner.store import models, shelves
from gleaner.store.records.datasets import VersionRecord
from gleaner.wire.common import FieldProblem
from gleaner.wire.contests.contest import ContestShelf, ContestSpec
from gleaner.wire.names import plain_name
from gleaner.wire.shelves.shelf import ShelfSpec

SUFFIXES = (".yaml", ".yml")
UNREAD = "-"
"""A dash is no name of a shelf."""


def unread_shelf(place: int, entry: Any, wrong: tuple[Any, ...]) -> str:
    """What stands for a shelf that cannot be read, so that the rest of the file can be looked at."""
    return UNREAD


def with_shelves(
    document: Document,
    spec: ContestSpec,
    version: VersionRecord | None,
    files: Mapping[str, str],
    connection: Connection,
) -> list[FieldProblem]:
    """Put the file of each shelf in the place of its name; answers every mistake."""
    problems: list[FieldProblem] = []
    read: list[ShelfSpec] = []
    for place, each in enumerate(spec.shelves):
        path = ("shelves", place)
        if each.name == UNREAD:
            continue
        try:
            shelf = each.file or _shelf(each.name or "", files, connection)
            if shelf.shelf in {other.shelf for other in read}:
                problems.append(document.problem(path, f"two shelves are called {shelf.shelf!r}"))
            read.append(shelf)
            problems += [document.problem(path, text) for text in _wrong_models(shelf, spec, version, connection)]
        except GleanerError as error:
            problems.append(document.problem(path, error.message))
    if spec.shelves:
        try:
            require_known_users(spec.split, "the contest", "split")
        except GleanerError as error:
            problems.append(document.problem(("shelves",), error.message))
    spec.shelves = [ContestShelf(file=each) for each in read]
    return problems


def _shelf(name: str, files: Mapping[str, str], connection: Connection) -> ShelfSpec:
    """By a file that was sent along, or as it is published. Raises FieldsError and UnknownNameError."""
    if not name.endswith(SUFFIXES):
        return shelves.get(connection, name).spec
    if name not in files:
        raise FieldsError(f"{name} was not sent along with this file", [])
    return Document(files[name], name).read(ShelfSpec)


def _wrong_models(
    shelf: ShelfSpec, spec: ContestSpec, version: VersionRecord | None, connection: Connection
) -> list[str]:
    """Models that are neither contenders nor there, or that know other data."""
    labels, wrong = [each.label for each in spec.contenders], []
    for name in shelf.models():
        if name in labels:
            continue
        try:
            data = models.get(connection, name).data
            if version is not None and plain_name(data) != plain_name(version.name):
                wrong.append(f"model {name!r} was trained on {data}, and the contest is about {version.name}")
        except GleanerError:
            wrong.append(f"{name!r} is neither a contender of this file{near(name, labels)} nor a model")
    return wrong
