"""Datasets and versions."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Row, Select, func, insert, select
from sqlalchemy.dialects.postgresql import insert as upsert

from gleaner.core.errors import NotFoundError
from gleaner.store.artefacts import Artefact, record
from gleaner.store.names import after_cursor, paged, split_name
from gleaner.store.tables import datasets, versions
from gleaner.wire.common import Page
from gleaner.wire.datasets import Dataset, DatasetVersion, Note, Profile, Roles, TableColumn, VersionSummary


@dataclass(frozen=True)
class VersionFiles:
    """A version's row id, name, hash and where its bulk data is."""

    id: int
    name: str
    content_hash: str
    roles: Roles
    interactions_file: str
    items_file: str | None
    users_file: str | None


@dataclass(frozen=True)
class NewVersion:
    """What an import made."""

    content_hash: str
    roles: Roles
    profile: Profile
    notes: list[Note]
    item_columns: list[TableColumn]
    user_columns: list[TableColumn]
    interactions: Artefact
    items: Artefact | None
    users: Artefact | None


def add_version(connection: Connection, dataset: str, new: NewVersion) -> str:
    """Record the next version of a dataset, made where it does not exist; answers its name."""
    files = [artefact for artefact in (new.interactions, new.items, new.users) if artefact]
    record(connection, *files)
    connection.execute(upsert(datasets).values(name=dataset).on_conflict_do_nothing())
    # the row lock gives two imports at once two numbers
    dataset_id = connection.scalar(select(datasets.c.id).where(datasets.c.name == dataset).with_for_update())
    last = connection.scalar(select(func.max(versions.c.number)).where(versions.c.dataset_id == dataset_id))
    values = {
        "dataset_id": dataset_id,
        "number": (last or 0) + 1,
        "content_hash": new.content_hash,
        "roles": new.roles.model_dump(),
        "profile": new.profile.model_dump(mode="json"),
        "notes": [note.model_dump() for note in new.notes],
        "item_columns": [column.model_dump() for column in new.item_columns],
        "user_columns": [column.model_dump() for column in new.user_columns],
        "interactions_file": new.interactions.sha256,
        "items_file": new.items.sha256 if new.items else None,
        "users_file": new.users.sha256 if new.users else None,
    }
    connection.execute(insert(versions).values(values))
    return f"{dataset}@{values['number']}"


def page(connection: Connection, *, after: str | None, limit: int) -> Page[Dataset]:
    """Datasets by name, each with its versions."""
    query = select(datasets).order_by(datasets.c.name).limit(limit + 1)
    if (last := after_cursor(after)) is not None:
        query = query.where(datasets.c.name > last)
    return paged(connection.execute(query).all(), limit, "name", lambda row: _dataset(connection, row))


def get(connection: Connection, name: str) -> Dataset:
    """One dataset. Raises NotFoundError."""
    row = connection.execute(select(datasets).where(datasets.c.name == name)).one_or_none()
    if row is None:
        raise NotFoundError(f"there is no dataset {name!r}", where="dataset")
    return _dataset(connection, row)


def version(connection: Connection, reference: str) -> DatasetVersion:
    """One version by a name such as seeds@3, or the newest of seeds. Raises NotFoundError."""
    row = _find(connection, reference)
    return DatasetVersion(
        **_summary(row).model_dump(),
        roles=row.roles,
        item_columns=row.item_columns,
        user_columns=row.user_columns,
        notes=row.notes,
        profile=row.profile,
    )


def files(connection: Connection, reference: str) -> VersionFiles:
    """Where a version's bulk data is. Raises NotFoundError."""
    return _files(_find(connection, reference))


def files_by_id(connection: Connection, version_id: int) -> VersionFiles:
    """The same by row id."""
    return _files(connection.execute(_query().where(versions.c.id == version_id)).one())


def _files(row: Row[Any]) -> VersionFiles:
    roles = Roles.model_validate(row.roles)
    return VersionFiles(
        row.id, _name(row), row.content_hash, roles, row.interactions_file, row.items_file, row.users_file
    )


def _query() -> Select[Any]:
    return select(versions, datasets.c.name.label("dataset")).join(datasets, datasets.c.id == versions.c.dataset_id)


def _find(connection: Connection, reference: str) -> Row[Any]:
    name, number = split_name(reference, "dataset version")
    query = _query().where(datasets.c.name == name).order_by(versions.c.number.desc()).limit(1)
    if number is not None:
        query = query.where(versions.c.number == number)
    row = connection.execute(query).one_or_none()
    if row is None:
        held = get(connection, name).versions
        newest = f"; its newest is {held[0].name}" if held else ""
        raise NotFoundError(f"there is no dataset version {reference!r}{newest}", where="data")
    return row


def _name(row: Row[Any]) -> str:
    return f"{row.dataset}@{row.number}"


def _summary(row: Row[Any]) -> VersionSummary:
    return VersionSummary(
        name=_name(row),
        dataset=row.dataset,
        number=row.number,
        created_at=row.created_at,
        content_hash=row.content_hash,
        rows=row.profile["rows"],
        users=row.profile["users"],
        items=row.profile["items"],
    )


def _dataset(connection: Connection, row: Row[Any]) -> Dataset:
    held = connection.execute(_query().where(versions.c.dataset_id == row.id).order_by(versions.c.number.desc()))
    return Dataset(name=row.name, created_at=row.created_at, versions=[_summary(each) for each in held])
