"""The model registry."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import asdict, dataclass
from difflib import get_close_matches
from typing import Any

from sqlalchemy import Connection, Row, Select, delete, insert, select, text
from sqlalchemy.dialects.postgresql import insert as upsert

from gleaner.core.errors import ConflictError, UnknownNameError
from gleaner.store.database.pages import after_id, paged
from gleaner.store.database.tables import (
    datasets,
    figures,
    model_numbers,
    models,
    rounds,
    runs,
    shelf_versions,
    shelves,
    standings,
    versions,
)
from gleaner.store.files.artefacts import Artefact, record
from gleaner.store.records.models import ModelRecord, RoundRecord, Story
from gleaner.store.records.pages import RecordPage
from gleaner.wire.contests.contest import ContestSpec
from gleaner.wire.models.training import Round
from gleaner.wire.names import split_name
from gleaner.wire.shelves.shelf import ShelfSpec


@dataclass(frozen=True)
class NewModel:
    """A fitted model to register."""

    name: str
    standing_id: int | None
    version_id: int | None
    family: str
    params: dict[str, Any]
    trained_on: str
    code_version: str
    shape: tuple[int, int]
    cells: int
    state: Artefact
    matrix: Artefact
    story: Story


@dataclass(frozen=True)
class ModelFiles:
    """What it takes to load a model."""

    name: str
    family: str
    params: dict[str, Any]
    version_id: int | None
    state_file: str
    matrix_file: str
    likelihood: dict[str, Any] | None = None
    is_on_all_rows: bool = False


def add(connection: Connection, new: NewModel) -> str:
    """Register the next model of a name; answers the name with its number."""
    record(connection, new.state, new.matrix)
    first = upsert(model_numbers).values(name=new.name, last=1)
    following = {"last": model_numbers.c.last + 1}
    next_number = first.on_conflict_do_update(index_elements=["name"], set_=following).returning(model_numbers.c.last)
    values = {
        "name": new.name,
        "number": connection.execute(next_number).scalar_one(),
        "standing_id": new.standing_id,
        "version_id": new.version_id,
        "family": new.family,
        "params": new.params,
        "trained_on": new.trained_on,
        "code_version": new.code_version,
        "users": new.shape[0],
        "items": new.shape[1],
        "cells": new.cells,
        "story": asdict(new.story),
        "state_file": new.state.sha256,
        "matrix_file": new.matrix.sha256,
    }
    connection.execute(insert(models).values(values))
    return f"{new.name}@{values['number']}"


def files_of_dataset(connection: Connection, dataset: str) -> list[ModelFiles]:
    """Files of every model that was trained on any version of a dataset, oldest first."""
    query = (
        select(models)
        .join(versions, versions.c.id == models.c.version_id)
        .join(datasets, datasets.c.id == versions.c.dataset_id)
        .where(datasets.c.name == dataset)
        .order_by(models.c.id)
    )
    return [_files(f"{row.name}@{row.number}", row) for row in connection.execute(query)]


def page(connection: Connection, *, after: str | None, limit: int) -> RecordPage[ModelRecord]:
    """Models, newest first."""
    query = _query().order_by(models.c.id.desc()).limit(limit + 1)
    if (last := after_id(after)) is not None:
        query = query.where(models.c.id < last)
    rows = connection.execute(query).all()
    return paged(rows, limit, "id", lambda row: _record(connection, row))


def fitted_on_all(connection: Connection, name: str, data: str | None = None) -> str | None:
    """Return the newest model of a name that was fitted on all rows, or None. data: only models of this version."""
    query = (
        _query()
        .where(models.c.name == name, models.c.trained_on.startswith("everything"))
        .order_by(models.c.number.desc())
    )
    names = (_name(row) for row in connection.execute(query) if data in (None, f"{row.dataset}@{row.version}"))
    return next(names, None)


def training_only(connection: Connection, names: Iterable[str]) -> list[str]:
    """Return which models were fitted on the training part only, without the rows they were tested on."""
    records = [get(connection, name) for name in names]
    return [each.name for each in records if not each.trained_on.startswith("everything")]


def default_of(connection: Connection, name: str) -> str:
    """Return the model that a name without a number means in a shelf: the newest fitted on all rows, else the newest.

    Raises UnknownNameError.
    """
    return fitted_on_all(connection, name) or _name(_find(connection, name))


def popular_beside(connection: Connection, model: str) -> str | None:
    """Return the popularity model to fall back on beside a model, or None if there is none on its data version.

    A model fitted on all rows is preferred, then one of the same contest, then the newest.
    """
    beside_of = _find(connection, model)
    query = _query().where(models.c.version_id == beside_of.version_id, models.c.family == "popular")
    rows = connection.execute(query.order_by(models.c.id.desc())).all()
    contest = model.partition(".")[0]
    rows = sorted(
        rows, key=lambda row: (not row.trained_on.startswith("everything"), row.name.partition(".")[0] != contest)
    )
    return next((_name(row) for row in rows), None)


def get(connection: Connection, reference: str) -> ModelRecord:
    """One model. Raises UnknownNameError."""
    return _record(connection, _find(connection, reference))


def files(connection: Connection, reference: str) -> ModelFiles:
    """What it takes to load a model. Raises UnknownNameError."""
    row = _find(connection, reference)
    return _files(_name(row), row)


def _files(name: str, row: Row[Any]) -> ModelFiles:
    likelihood = row.story.get("likelihood")
    is_on_all_rows = row.trained_on.startswith("everything")
    return ModelFiles(
        name, row.family, row.params, row.version_id, row.state_file, row.matrix_file, likelihood, is_on_all_rows
    )


def remove(connection: Connection, reference: str) -> tuple[str, list[str]]:
    """Take a model out of the registry; answers its name, and the files that nothing refers to any more once this is
    committed. Raises UnknownNameError, or ConflictError where a version of a shelf names it."""
    row = _find(connection, reference)
    name = _name(row)
    locked = select(models.c.id).where(models.c.id == row.id).with_for_update()
    if connection.execute(locked).one_or_none() is None:
        raise UnknownNameError(f"the model {name!r} was removed a moment ago", where="model")
    specs = connection.execute(
        select(shelves.c.name, shelf_versions.c.number, shelf_versions.c.spec).join(
            shelves, shelves.c.id == shelf_versions.c.shelf_id
        )
    )
    naming = [f"{each.name}@{each.number}" for each in specs if name in ShelfSpec.model_validate(each.spec).models()]
    if naming:
        some = ", ".join(naming[:5]) + (", ..." if len(naming) > 5 else "")
        raise ConflictError(f"{name} is named by {some}; a shelf could not go back to it", where="model")
    connection.execute(delete(models).where(models.c.id == row.id))
    return name, [row.state_file, row.matrix_file]


def require_there(connection: Connection, names: Iterable[str]) -> None:
    """Keep models from being removed until the transaction ends. Raise UnknownNameError for one that is not there."""
    for name in sorted(names):
        found = _find(connection, name)
        locked = select(models.c.id).where(models.c.id == found.id).with_for_update(read=True)
        if connection.execute(locked).one_or_none() is None:
            raise UnknownNameError(f"the model {name!r} was removed a moment ago", where="model")


def _find(connection: Connection, reference: str) -> Row[Any]:
    name, number = split_name(reference, "model")
    query = _query().where(models.c.name == name).order_by(models.c.number.desc()).limit(1)
    if number is not None:
        query = query.where(models.c.number == number)
    row = connection.execute(query).one_or_none()
    if row is None:
        names = list(connection.scalars(select(models.c.name).distinct()))
        close = get_close_matches(name, names, 1)
        meant = f"did you mean {close[0]!r}?" if close else "`gleaner model list` shows what there is"
        raise UnknownNameError(f"there is no model {reference!r}; {meant}", where="model")
    return row


def _query() -> Select[Any]:
    return (
        select(
            models,
            standings.c.fit_seconds,
            standings.c.peak_memory_mb,
            standings.c.prepare.label("own_prepare"),
            runs.c.spec,
            runs.c.contest,
            runs.c.number.label("run_number"),
            versions.c.content_hash,
            versions.c.number.label("version"),
            datasets.c.name.label("dataset"),
        )
        .outerjoin(standings, standings.c.id == models.c.standing_id)
        .outerjoin(runs, runs.c.id == standings.c.run_id)
        .outerjoin(versions, versions.c.id == models.c.version_id)
        .outerjoin(datasets, datasets.c.id == versions.c.dataset_id)
    )


def paces(connection: Connection, of: str) -> list[tuple[dict[str, Any], tuple[int, int], int, float]]:
    """Parameters, shape, cells and seconds of the last ten fits of a family."""
    query = _query().where(models.c.family == of).order_by(models.c.id.desc()).limit(10)
    rows = []
    for row in connection.execute(query):
        seconds = row.story.get("final_seconds") or row.story.get("fit_seconds")
        if seconds:
            rows.append((row.params, (row.users, row.items), row.cells, float(seconds)))
    return rows


def add_round(connection: Connection, job_id: int, contender: str, part: str, done: Round) -> None:
    """Keep one iteration of a fit; like progress, it need not wait for the disk."""
    connection.execute(text("SET LOCAL synchronous_commit = off"))
    values = {"job_id": job_id, "contender": contender, "part": part, "round": done.model_dump(mode="json")}
    connection.execute(insert(rounds).values(values))


def drop_rounds(connection: Connection, job_id: int, contender: str, part: str) -> None:
    """Forget the iterations of a fit that an earlier attempt of the job began: it begins again."""
    of_fit = (rounds.c.job_id == job_id) & (rounds.c.contender == contender) & (rounds.c.part == part)
    connection.execute(delete(rounds).where(of_fit))


def rounds_of(connection: Connection, job_id: int, after: int = 0) -> list[RoundRecord]:
    """Iterations of a job's fits, in order; `after` leaves out so many."""
    query = select(rounds).where(rounds.c.job_id == job_id).order_by(rounds.c.id).offset(after).limit(10_000)
    return [RoundRecord(contender=row.contender, part=row.part, **row.round) for row in connection.execute(query)]


def _name(row: Row[Any]) -> str:
    return f"{row.name}@{row.number}"


def _record(connection: Connection, row: Row[Any]) -> ModelRecord:
    query = select(figures.c.metric, figures.c.mean)
    rows = connection.execute(query.where(figures.c.standing_id == row.standing_id, figures.c.part == "test"))
    means = {value.metric: value.mean for value in rows}
    rank = ContestSpec.model_validate(row.spec).rank if row.spec else None
    story = Story(**row.story)
    return ModelRecord(
        name=_name(row),
        family=row.family,
        params=row.params,
        data=f"{row.dataset}@{row.version}" if row.dataset else row.story.get("data", "elsewhere"),
        run=f"{row.contest}@{row.run_number}" if row.contest else None,
        users=row.users,
        items=row.items,
        cells=row.cells,
        created_at=row.created_at,
        decided_by=rank.decide_by if rank else None,
        figures={name: means[name] for name in rank.names() if name in means} if rank else {},
        content_hash=row.content_hash or story.content_hash,
        prepare=row.own_prepare or (row.spec["prepare"] if row.spec else story.prepare),
        split=row.spec["split"] if row.spec else story.split,
        trained_on=row.trained_on,
        code_version=row.code_version,
        fit_seconds=row.fit_seconds if row.fit_seconds is not None else story.fit_seconds,
        peak_memory_mb=row.peak_memory_mb if row.peak_memory_mb is not None else story.peak_memory_mb,
        state_sha256=row.state_file,
        matrix_sha256=row.matrix_file,
        story=story,
    )
