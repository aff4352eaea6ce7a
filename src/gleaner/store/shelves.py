"""Shelves and their versions."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection, Row, Select, func, insert, select, text, update
from sqlalchemy.dialects.postgresql import insert as upsert

from gleaner.core.errors import ConflictError, UnknownNameError
from gleaner.store import models
from gleaner.store.database.engine import notify
from gleaner.store.database.pages import after_cursor, paged
from gleaner.store.database.tables import datasets, shelf_servings, shelf_versions, shelves, versions
from gleaner.store.datasets import require_data
from gleaner.store.records.pages import RecordPage
from gleaner.store.records.shelves import ServingRecord, ShelfHistoryRecord, ShelfRecord, ShelfVersionRecord
from gleaner.wire.names import split_name
from gleaner.wire.shelves.shelf import ShelfSpec

CHANNEL = "gleaner_shelves"


def publish(
    connection: Connection, spec: ShelfSpec, file: str, version_id: int, how: str = "published"
) -> ShelfVersionRecord:
    """Record the next version of a shelf and make it the one served; serving processes are notified on commit.

    Raises UnknownNameError where a model or the data version was removed meanwhile.
    """
    models.require_there(connection, spec.models())
    require_data(connection, version_id)
    connection.execute(upsert(shelves).values(name=spec.shelf, serving=1).on_conflict_do_nothing())
    shelf_id = connection.scalar(select(shelves.c.id).where(shelves.c.name == spec.shelf).with_for_update())
    last = connection.scalar(select(func.max(shelf_versions.c.number)).where(shelf_versions.c.shelf_id == shelf_id))
    number = (last or 0) + 1
    values = {
        "shelf_id": shelf_id,
        "number": number,
        "spec": spec.model_dump(mode="json"),
        "file": file,
        "version_id": version_id,
    }
    connection.execute(insert(shelf_versions).values(values))
    _serve(connection, shelf_id, spec.shelf, number, how)
    return get(connection, f"{spec.shelf}@{number}")


def lock(connection: Connection, name: str) -> None:
    """Let nobody publish or roll back a shelf, existing or new, until the transaction ends."""
    connection.execute(text("SELECT pg_advisory_xact_lock(hashtext(:name))"), {"name": f"shelf {name}"})
    connection.execute(select(shelves.c.id).where(shelves.c.name == name).with_for_update())


def roll_back(connection: Connection, name: str, to: int | None) -> ShelfVersionRecord:
    """Serve an earlier version again: `to`, or the one served before. Raises UnknownNameError or ConflictError."""
    shelf = connection.execute(select(shelves).where(shelves.c.name == name).with_for_update()).one_or_none()
    if shelf is None:
        raise UnknownNameError(f"there is no shelf {name!r}", where="shelf")
    if to is None:
        to = served_before(connection, name)
    wanted = get(connection, f"{name}@{to}")
    if wanted.number == shelf.serving:
        raise ConflictError(f"{wanted.name} is what is served", where="to")
    of_number = (shelf_versions.c.shelf_id == shelf.id) & (shelf_versions.c.number == to)
    require_data(connection, connection.execute(select(shelf_versions.c.version_id).where(of_number)).scalar_one())
    _serve(connection, shelf.id, name, wanted.number, "rolled back")
    return wanted


def served_before(connection: Connection, name: str) -> int:
    """The number of the version that was served before the one that is. Raises ConflictError where there is none."""
    query = (
        select(shelf_servings.c.number)
        .join(shelves, shelves.c.id == shelf_servings.c.shelf_id)
        .where(shelves.c.name == name, shelf_servings.c.number != shelves.c.serving)
        .order_by(shelf_servings.c.id.desc())
    )
    number = connection.scalar(query.limit(1))
    if number is None:
        raise ConflictError(f"{name} has served one version only, so there is none to go back to", where="shelf")
    return number


def _serve(connection: Connection, shelf_id: int | None, name: str, number: int, how: str) -> None:
    connection.execute(update(shelves).where(shelves.c.id == shelf_id).values(serving=number))
    connection.execute(insert(shelf_servings).values(shelf_id=shelf_id, number=number, how=how))
    notify(connection, CHANNEL, name)


def get(connection: Connection, reference: str) -> ShelfVersionRecord:
    """A version of a shelf, or the one being served. Raises UnknownNameError."""
    name, number = split_name(reference, "shelf")
    wanted = shelves.c.serving if number is None else number
    row = connection.execute(_query().where(shelves.c.name == name, shelf_versions.c.number == wanted)).one_or_none()
    if row is None:
        raise UnknownNameError(f"there is no shelf {reference!r}", where="shelf")
    return _version(row)


def names(connection: Connection) -> list[str]:
    """Every shelf."""
    return list(connection.scalars(select(shelves.c.name).order_by(shelves.c.name)))


def history(connection: Connection, name: str) -> ShelfHistoryRecord:
    """Every version, newest first. Raises UnknownNameError."""
    rows = connection.execute(_query().where(shelves.c.name == name).order_by(shelf_versions.c.number.desc())).all()
    if not rows:
        raise UnknownNameError(f"there is no shelf {name!r}", where="shelf")
    served = connection.execute(
        select(shelf_servings).where(shelf_servings.c.shelf_id == rows[0].shelf_id).order_by(shelf_servings.c.id.desc())
    )
    servings = [ServingRecord(row.number, row.at, row.how) for row in served]
    return ShelfHistoryRecord(name, servings[0].number, [_version(row) for row in rows], servings)


def page(connection: Connection, *, after: str | None, limit: int) -> RecordPage[ShelfRecord]:
    """Shelves by name, with the version each serves."""
    counted = select(shelf_versions.c.shelf_id, func.count().label("n")).group_by(shelf_versions.c.shelf_id).subquery()
    query = (
        _query()
        .add_columns(counted.c.n)
        .join(counted, counted.c.shelf_id == shelves.c.id)
        .where(shelf_versions.c.number == shelves.c.serving)
        .order_by(shelves.c.name)
        .limit(limit + 1)
    )
    if (last := after_cursor(after)) is not None:
        query = query.where(shelves.c.name > last)
    return paged(connection.execute(query).all(), limit, "shelf", _summary)


def _summary(row: Row[Any]) -> ShelfRecord:
    return ShelfRecord(
        shelf=row.shelf,
        title=row.spec["title"],
        serving=f"{row.shelf}@{row.number}",
        published_at=row.published_at,
        versions=row.n,
        data=f"{row.dataset}@{row.version}",
    )


def _query() -> Select[Any]:
    return (
        select(
            shelf_versions,
            shelves.c.name.label("shelf"),
            datasets.c.name.label("dataset"),
            versions.c.number.label("version"),
        )
        .join(shelves, shelves.c.id == shelf_versions.c.shelf_id)
        .join(versions, versions.c.id == shelf_versions.c.version_id)
        .join(datasets, datasets.c.id == versions.c.dataset_id)
    )


def _version(row: Row[Any]) -> ShelfVersionRecord:
    return ShelfVersionRecord(
        name=f"{row.shelf}@{row.number}",
        shelf=row.shelf,
        number=row.number,
        published_at=row.published_at,
        spec=ShelfSpec.model_validate(row.spec),
        file=row.file,
        data=f"{row.dataset}@{row.version}",
    )
