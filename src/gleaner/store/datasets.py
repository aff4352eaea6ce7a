"""Datasets and versions."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, Row, Select, Text, and_, cast, func, insert, null, select, update
from sqlalchemy.dialects.postgresql import insert as upsert

from gleaner.core.errors import ConflictError, MadeMeanwhileError, UnknownNameError
from gleaner.store import live_columns
from gleaner.store.database.pages import after_cursor, paged
from gleaner.store.database.tables import datasets, jobs, models, runs, shelf_versions, shelves, versions
from gleaner.store.files.artefacts import Artefact, record
from gleaner.store.records.datasets import DatasetRecord, RemovedVersionRecord, VersionRecord, VersionSummaryRecord
from gleaner.store.records.pages import RecordPage
from gleaner.wire.datasets import Profile, TableColumn
from gleaner.wire.imports import ImportReport, Roles
from gleaner.wire.names import split_name

FILES = ("interactions", "items", "users", "user_activity", "item_activity")


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
    user_activity_file: str | None
    item_activity_file: str | None
    scale: tuple[float, float] | None = None
    events_upto: int = 0
    changes_upto: int = 0


@dataclass(frozen=True)
class NewVersion:
    """A version to be recorded, whose files are in place.

    changes_upto: the last column change that its tables contain; None where it takes over no table, and so replaces
    every change until now.
    """

    content_hash: str
    roles: Roles
    profile: Profile
    report: ImportReport
    item_columns: list[TableColumn]
    user_columns: list[TableColumn]
    context_columns: list[TableColumn]
    parts: dict[str, int]
    scale: tuple[float, float] | None
    base: int | None
    changes_upto: int | None
    events_upto: int
    request: dict[str, Any]
    interactions: Artefact
    items: Artefact | None
    users: Artefact | None
    user_activity: Artefact
    item_activity: Artefact


@dataclass(frozen=True)
class Rewritten:
    """A version's new files, profile and hash, after rows went."""

    id: int
    content_hash: str
    profile: Profile
    report: ImportReport
    files: dict[str, Artefact | None]
    replaces: str


def add_version(connection: Connection, dataset: str, new: NewVersion) -> str:
    """Record the next version of a dataset, made where it does not exist; answers its name."""
    artefacts = {name: getattr(new, name) for name in FILES}
    record(connection, *(artefact for artefact in artefacts.values() if artefact))
    connection.execute(upsert(datasets).values(name=dataset).on_conflict_do_nothing())
    dataset_id = _locked_id(connection, dataset)
    last = connection.scalar(select(func.max(versions.c.number)).where(versions.c.dataset_id == dataset_id))
    values: dict[str, Any] = {
        "dataset_id": dataset_id,
        "number": (last or 0) + 1,
        "content_hash": new.content_hash,
        "roles": new.roles.model_dump(),
        "profile": new.profile.model_dump(mode="json"),
        "report": new.report.model_dump(mode="json"),
        "request": new.request,
        "item_columns": [column.model_dump() for column in new.item_columns],
        "user_columns": [column.model_dump() for column in new.user_columns],
        "context_columns": [column.model_dump() for column in new.context_columns],
        "parts": new.parts,
        "scale": list(new.scale) if new.scale else null(),
        "base": new.base,
        "events_upto": new.events_upto,
    } | {f"{name}_file": artefact.sha256 if artefact else None for name, artefact in artefacts.items()}
    changes_upto = live_columns.settled_upto(connection) if new.changes_upto is None else new.changes_upto
    values["changes_upto"] = changes_upto
    connection.execute(insert(versions).values(values))
    return f"{dataset}@{values['number']}"


def _locked_id(connection: Connection, dataset: str) -> int:
    """Return the row id of a dataset, and lock its versions for the transaction: none is added or removed meanwhile.

    Rows that refer to the dataset, such as events, can still be written.
    """
    query = select(datasets.c.id).where(datasets.c.name == dataset).with_for_update(key_share=True)
    return connection.execute(query).scalar_one()


def require_newest(connection: Connection, dataset: str, files: VersionFiles) -> None:
    """Lock the versions of a dataset for the transaction. Raise ConflictError unless `files` is its newest version."""
    _locked_id(connection, dataset)
    there = newest(connection, dataset)
    if there.version_id != files.id:
        raise MadeMeanwhileError(f"{files.name} is no longer the newest version; it is {there.name}", where="onto")


def times_forgotten(connection: Connection, dataset: str) -> int:
    """Return how often users of a dataset were forgotten."""
    return connection.execute(select(datasets.c.forgotten).where(datasets.c.name == dataset)).scalar_one()


def require_unforgotten(connection: Connection, dataset: str, times: int) -> None:
    """Lock the versions of a dataset for the transaction. Raise MadeMeanwhileError where a user was forgotten since."""
    _locked_id(connection, dataset)
    if times_forgotten(connection, dataset) != times:
        raise MadeMeanwhileError(f"a user of {dataset} was forgotten while its rows were being read", where="onto")


def require_data(connection: Connection, version_id: int) -> None:
    """Keep a version's data from being removed until the transaction ends. Raise ConflictError where it was removed."""
    query = select(versions.c.number, versions.c.removed_at).where(versions.c.id == version_id)
    row = connection.execute(query.with_for_update(read=True)).one()
    if row.removed_at is not None:
        raise ConflictError(f"version {row.number} of the data was removed; publish on another", where="data")


def require_unchanged(connection: Connection, files: VersionFiles) -> None:
    """Lock a version for the transaction. Raises ConflictError when its rows are no longer those of `files`."""
    query = select(versions.c.interactions_file).where(versions.c.id == files.id)
    row = connection.execute(query.with_for_update(key_share=True)).one()
    if row.interactions_file != files.interactions_file:
        raise MadeMeanwhileError(
            f"{files.name} was changed or removed while its rows were being read; try again", where="onto"
        )


def remove(connection: Connection, reference: str, *, force: bool) -> RemovedVersionRecord:
    """Take a version's data away; its number is not given again. Models keep working: they have matrices of their own.

    Raises ConflictError while a shelf serves with its item columns or work on it is under way, and, unless forced,
    when a model was trained on it.
    """
    row = _find(connection, reference)
    connection.execute(select(versions.c.id).where(versions.c.id == row.id).with_for_update(key_share=True))
    serving = connection.scalars(
        select(shelves.c.name)
        .join(
            shelf_versions,
            and_(shelf_versions.c.shelf_id == shelves.c.id, shelf_versions.c.number == shelves.c.serving),
        )
        .where(shelf_versions.c.version_id == row.id)
    ).all()
    if serving:
        raise ConflictError(
            f"{_name(row)} is what shelf {serving[0]!r} serves with; publish another first", where="version"
        )
    running = connection.scalars(
        select(runs.c.contest).join(jobs, jobs.c.id == runs.c.job_id)
        .where(runs.c.version_id == row.id, jobs.c.state.in_(["queued", "running"]))
    ).all()  # fmt: skip
    if running:
        raise ConflictError(f"contest {running[0]!r} is running on {_name(row)}; wait, or cancel it", where="version")
    trained = models_of(connection, [row.id])
    if trained and not force:
        raise ConflictError(
            f"models were trained on {_name(row)}, such as {trained[0]} ({len(trained)} in all); they would keep "
            "working, but nobody could look at what they learned from. Force it if that is meant",
            where="force",
        )
    gone: dict[str, Any] = dict.fromkeys([f"{name}_file" for name in FILES])
    connection.execute(update(versions).where(versions.c.id == row.id).values(gone | {"removed_at": func.now()}))
    return RemovedVersionRecord(_name(row), trained)


def rewrite(connection: Connection, done: Rewritten) -> None:
    """Put a version's new files in the place of its old. Raises MadeMeanwhileError when it changed in between."""
    record(connection, *(artefact for artefact in done.files.values() if artefact))
    values = {
        "content_hash": done.content_hash,
        "profile": done.profile.model_dump(mode="json"),
        "report": done.report.model_dump(mode="json"),
        "forgotten": versions.c.forgotten + 1,
    } | {f"{name}_file": artefact.sha256 if artefact else None for name, artefact in done.files.items()}
    changed = connection.execute(
        update(versions).where(versions.c.id == done.id, versions.c.interactions_file == done.replaces).values(values)
    )
    if changed.rowcount != 1:
        raise MadeMeanwhileError("a version was changed while it was being rewritten; try again", where="version")


def models_of(connection: Connection, version_ids: list[int]) -> list[str]:
    """Names of the models trained on any of some versions."""
    query = select(models.c.name, models.c.number).where(models.c.version_id.in_(version_ids)).order_by(models.c.id)
    return [f"{row.name}@{row.number}" for row in connection.execute(query)]


def live_files(connection: Connection, dataset: str) -> list[VersionFiles]:
    """Files of every version of a dataset that was not removed, oldest first. Raises UnknownNameError."""
    get(connection, dataset)
    query = _query().where(datasets.c.name == dataset, versions.c.removed_at.is_(None)).order_by(versions.c.number)
    return [_files(row) for row in connection.execute(query)]


def page(connection: Connection, *, after: str | None, limit: int) -> RecordPage[DatasetRecord]:
    """Datasets by name, each with its versions."""
    query = select(datasets).order_by(datasets.c.name).limit(limit + 1)
    if (last := after_cursor(after)) is not None:
        query = query.where(datasets.c.name > last)
    return paged(connection.execute(query).all(), limit, "name", lambda row: _dataset(connection, row))


def get(connection: Connection, name: str) -> DatasetRecord:
    """One dataset. Raises UnknownNameError."""
    row = connection.execute(select(datasets).where(datasets.c.name == name)).one_or_none()
    if row is None:
        raise UnknownNameError(f"there is no dataset {name!r}", where="dataset")
    return _dataset(connection, row)


def version(connection: Connection, reference: str) -> VersionRecord:
    """One version by a name such as seeds@3, or the newest of seeds. Raises UnknownNameError."""
    row = _find(connection, reference)
    return VersionRecord(
        **vars(_summary(row)),
        roles=Roles.model_validate(row.roles),
        item_columns=_columns(row.item_columns),
        user_columns=_columns(row.user_columns),
        context_columns=_columns(row.context_columns),
        parts=row.parts,
        scale=_scale(row.scale),
        report=ImportReport.model_validate(row.report),
        profile=Profile.model_validate(row.profile),
    )


def files(connection: Connection, reference: str) -> VersionFiles:
    """Where a version's bulk data is. Raises UnknownNameError."""
    return _files(_find(connection, reference))


def id_of_content(connection: Connection, content_hash: str, like: str) -> int | None:
    """Row id of a version with this content that was not removed: the one named `like` if it is such a version, else
    the newest; None where there is none."""
    name = datasets.c.name + "@" + cast(versions.c.number, Text)
    query = select(versions.c.id).join(datasets, datasets.c.id == versions.c.dataset_id)
    query = query.where(versions.c.content_hash == content_hash, versions.c.removed_at.is_(None))
    return connection.scalar(query.order_by((name == like).desc(), versions.c.id.desc()).limit(1))


def files_by_id(connection: Connection, version_id: int) -> VersionFiles:
    """The same by row id."""
    return _files(connection.execute(_query().where(versions.c.id == version_id)).one())


@dataclass(frozen=True)
class Newest:
    """The newest version of a dataset that was not removed."""

    dataset_id: int
    version_id: int
    name: str
    created_at: datetime
    changes_upto: int


def newest(connection: Connection, dataset: str) -> Newest:
    """Which version is the newest. Raises UnknownNameError."""
    row = connection.execute(
        select(versions.c.dataset_id, versions.c.id, versions.c.number, versions.c.created_at, versions.c.changes_upto)
        .join(datasets, datasets.c.id == versions.c.dataset_id)
        .where(datasets.c.name == dataset, versions.c.removed_at.is_(None))
        .order_by(versions.c.number.desc())
        .limit(1)
    ).one_or_none()
    if row is None:
        raise UnknownNameError(f"there is no dataset {dataset!r}", where="data")
    return Newest(row.dataset_id, row.id, f"{dataset}@{row.number}", row.created_at, row.changes_upto)


def scale_by_id(connection: Connection, version_id: int) -> tuple[float, float] | None:
    """The declared scale of a version."""
    scale = connection.execute(select(versions.c.scale).where(versions.c.id == version_id)).scalar_one()
    return _scale(scale)


def id_of(connection: Connection, dataset: str) -> int:
    """The row id of a dataset that is there."""
    return connection.execute(select(datasets.c.id).where(datasets.c.name == dataset)).scalar_one()


def dataset_name(connection: Connection, version_id: int | None) -> str | None:
    """Return the name of a version's dataset; None without a version."""
    query = select(datasets.c.name).join(versions, versions.c.dataset_id == datasets.c.id)
    return connection.scalar(query.where(versions.c.id == version_id))


def dataset_and_changes(connection: Connection, version_id: int) -> tuple[int, int]:
    """Return the dataset's id of a version, and the number of the last column change that its tables contain."""
    query = select(versions.c.dataset_id, versions.c.changes_upto).where(versions.c.id == version_id)
    row = connection.execute(query).one()
    return row.dataset_id, row.changes_upto


def kinds_by_id(connection: Connection, version_id: int) -> list[str]:
    """The kinds of interactions of a version, none where rows have no kind."""
    profile = connection.execute(select(versions.c.profile).where(versions.c.id == version_id)).scalar_one()
    return [each["kind"] for each in profile["kinds"] or []]


def context_types_by_id(connection: Connection, version_id: int) -> dict[str, str]:
    """The columns that a version keeps beside an interaction, and their types."""
    columns = connection.execute(select(versions.c.context_columns).where(versions.c.id == version_id)).scalar_one()
    return {each.name: each.type for each in _columns(columns)}


def _files(row: Row[Any]) -> VersionFiles:
    roles = Roles.model_validate(row.roles)
    return VersionFiles(
        row.id,
        _name(row),
        row.content_hash,
        roles,
        row.interactions_file,
        row.items_file,
        row.users_file,
        row.user_activity_file,
        row.item_activity_file,
        _scale(row.scale),
        row.events_upto,
        row.changes_upto,
    )


def _scale(kept: list[float] | None) -> tuple[float, float] | None:
    return (kept[0], kept[1]) if kept else None


def _columns(kept: list[dict[str, Any]]) -> list[TableColumn]:
    return [TableColumn.model_validate(each) for each in kept]


def _query() -> Select[Any]:
    return select(versions, datasets.c.name.label("dataset")).join(datasets, datasets.c.id == versions.c.dataset_id)


def _find(connection: Connection, reference: str) -> Row[Any]:
    name, number = split_name(reference, "dataset version")
    query = _query().where(datasets.c.name == name).order_by(versions.c.number.desc()).limit(1)
    query = query.where(versions.c.number == number if number is not None else versions.c.removed_at.is_(None))
    row = connection.execute(query).one_or_none()
    if row is not None and row.removed_at is not None:
        raise UnknownNameError(f"dataset version {reference!r} was removed on {row.removed_at:%Y-%m-%d}", where="data")
    if row is None:
        versions_there = get(connection, name).versions
        newest = f"; its newest is {versions_there[0].name}" if versions_there else ""
        raise UnknownNameError(f"there is no dataset version {reference!r}{newest}", where="data")
    return row


def _name(row: Row[Any]) -> str:
    return f"{row.dataset}@{row.number}"


def _summary(row: Row[Any]) -> VersionSummaryRecord:
    return VersionSummaryRecord(
        name=_name(row),
        dataset=row.dataset,
        number=row.number,
        created_at=row.created_at,
        content_hash=row.content_hash,
        rows=row.profile["rows"],
        users=row.profile["users"],
        items=row.profile["items"],
        base=f"{row.dataset}@{row.base}" if row.base else None,
        forgotten=row.forgotten,
    )


def _dataset(connection: Connection, row: Row[Any]) -> DatasetRecord:
    query = _query().where(versions.c.dataset_id == row.id, versions.c.removed_at.is_(None))
    rows = connection.execute(query.order_by(versions.c.number.desc()))
    return DatasetRecord(row.name, row.created_at, [_summary(each) for each in rows])
