"""The job behind `gleaner export`: worked out part by part, then handed over."""

from __future__ import annotations

import shutil
from dataclasses import dataclass
from typing import Any

import numpy as np
import polars as pl
import pyarrow as pa

from gleaner.core.data.ids import IdMap
from gleaner.core.errors import DataError
from gleaner.core.fitted import Fitted
from gleaner.jobs.datasets.opening import SourceOpener
from gleaner.jobs.datasets.row_writer import TableWriter
from gleaner.jobs.datasets.sources.fetch import CallerReach
from gleaner.jobs.datasets.sources.places import AllowedPlaces
from gleaner.jobs.exports.left_out import LeftOut, Side, left_out_of
from gleaner.jobs.exports.parts import read_parts, work_out
from gleaner.jobs.exports.rows import Affinity, Content, Predicted, TopLists, parts_with_ids
from gleaner.jobs.exports.shelf_lists import ShelfLists
from gleaner.jobs.exports.targets import fill_table, send_file
from gleaner.jobs.lists.everybody import Everybody, everybody, lookups_of
from gleaner.jobs.lists.list_all import matching
from gleaner.jobs.shelves.stored_lookups import load_shelf
from gleaner.jobs.worker.context import JobContext
from gleaner.store import datasets, jobs, models
from gleaner.store.datasets import dataset_name
from gleaner.store.files import job_files
from gleaner.store.files.artefacts import Artefact
from gleaner.store.records.models import ModelRecord
from gleaner.wire.exports import ExportRequest

HANDED_OVER = 0.97
PAIRS = pa.schema([("user", pa.large_string()), ("item", pa.large_string())])


def run(context: JobContext) -> dict[str, Any]:
    """Work the rows out, hand them over, answer where they are."""
    request = ExportRequest.model_validate(context.claim.payload)
    subject = _of_shelf(context, request) if request.shelf is not None else _of_model(context, request)
    content = subject.content
    paths = work_out(context, content)
    result: dict[str, Any] = {"model": subject.model.name, "what": request.what}
    if request.shelf is not None:
        result["shelf"] = subject.name
    reach = CallerReach(AllowedPlaces.read(context.settings.targets, "TARGET"), context.claim.anywhere)
    kept: Artefact | None = None
    side, seen = _owner(request), set[int]()
    owners = (side or "", None if side is None else seen)
    if request.table is not None:
        read = read_parts(context, paths, HANDED_OVER, f"filling {request.table.table}")
        parts = parts_with_ids(read, content.ids, *owners)
        result["table"], result["rows"] = fill_table(parts, request.table, reach)
    else:
        path = context.staging / f"export.{request.format}"
        with TableWriter(path, request.format, exact=request.exact) as writer:
            read = read_parts(context, paths, HANDED_OVER, "writing the file")
            for part in parts_with_ids(read, content.ids, *owners):
                writer.write(part)
        result |= {"rows": writer.rows, "bytes": path.stat().st_size, "format": request.format}
        if writer.changed:
            result["shown_cells"] = writer.changed
        if request.to is not None:
            context.require_going(HANDED_OVER, "sending the file")
            result["to"] = send_file(path, request.to, reach)
        else:
            kept = context.artefacts.put(path, request.format)
            result["file"] = kept.sha256
    text = f"{subject.name}: {request.what}, {result['rows']:,} rows"
    report: Artefact | None = None
    if side is not None:
        left_out = _left_out(context, subject, side, seen)
        text += f"; {left_out.sentence}" if left_out is not None and left_out.sentence else ""
        result["left_out"] = None if left_out is None else left_out.facts()
        if left_out is not None and left_out.who.height:
            report = _report(context, left_out, request, reach, result)
    with context.engine.begin() as connection:
        jobs.require_current(connection, context.claim)
        dataset = dataset_name(connection, subject.version_id)
        if kept is not None:
            job_files.add(connection, context.claim.id, "main", kept, dataset)
        if report is not None:
            job_files.add(connection, context.claim.id, "left-out", report, dataset)
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=text)
    shutil.rmtree(context.settings.parts(context.claim.id), ignore_errors=True)
    if request.pairs is not None and request.pairs.upload is not None:
        (context.settings.uploads / request.pairs.upload).unlink(missing_ok=True)
    return result


def _owner(request: ExportRequest) -> Side | None:
    """Whose lists or rows these are; None for pairs, each of which says why it has no answer."""
    sides: dict[str, Side] = {"top-items": "user", "top-users": "item", "affinity": "user", "lists": "user"}
    # who a condition leaves out is left out because that was asked for
    return None if request.what == "affinity" and request.where is not None else sides.get(request.what)


@dataclass(frozen=True, eq=False)
class ExportSubject:
    """What is exported: a model, or a shelf with the model that scores. users, items: whose lists these can be."""

    name: str
    content: Content
    model: ModelRecord
    version_id: int | None
    users: IdMap
    items: IdMap


def _of_model(context: JobContext, request: ExportRequest) -> ExportSubject:
    assert request.model is not None
    with context.engine.begin() as connection:
        files, model = models.files(connection, request.model), models.get(connection, request.model)
    context.require_going(0.02, "loading the model")
    who = everybody(lookups_of(context), request.model)
    content, train = _content(context, who, request, files.version_id), who.fitted.train
    return ExportSubject(who.fitted.name, content, model, files.version_id, train.users, train.items)


def _of_shelf(context: JobContext, request: ExportRequest) -> ExportSubject:
    """Everybody that the version of the shelf's model knows, by a row, by the table of users, or by events since."""
    assert request.shelf is not None
    context.require_going(0.02, "loading the shelf")
    shelf = load_shelf(lookups_of(context), request.shelf)
    train = shelf.model.fitted.train
    with context.engine.begin() as connection:
        model = models.get(connection, shelf.model.fitted.name)
        version_id = models.files(connection, model.name).version_id
        activity = None if version_id is None else datasets.files_by_id(connection, version_id).user_activity_file
    everyone = dict.fromkeys(train.users.ids.to_pylist())
    if activity is not None:
        table = pl.read_parquet(context.artefacts.local_path(activity), columns=["id"])
        everyone |= dict.fromkeys(table["id"].to_list())
    if shelf.model.people.table.frame is not None:
        everyone |= dict.fromkeys(shelf.model.people.table.frame["id"].to_list())
    everyone |= dict.fromkeys(shelf.model.people.live.users())
    users = IdMap([*everyone])
    name = f"{shelf.spec.shelf}@{shelf.number}"
    return ExportSubject(name, ShelfLists(shelf, users, request.n), model, version_id, users, train.items)


def _left_out(context: JobContext, subject: ExportSubject, side: Side, seen: set[int]) -> LeftOut | None:
    ids = subject.users if side == "user" else subject.items
    rows, model = np.array(sorted(seen), dtype=np.int64), subject.model
    return left_out_of(context, side, ids, rows, subject.version_id, model.prepare, model.trained_on)


def _report(
    context: JobContext, left_out: LeftOut, request: ExportRequest, reach: CallerReach, result: dict[str, Any]
) -> Artefact | None:
    """The list of who is left out: beside the file where it was sent, else kept with the job."""
    path = context.staging / "left-out.csv"
    left_out.write(path)
    if request.to is not None:
        result["left_out"]["to"] = send_file(path, beside(request.to, ".left-out.csv"), reach)
        return None
    kept = context.artefacts.put(path, "csv")
    result["left_out"]["file"] = kept.sha256
    return kept


def beside(url: str, ending: str) -> str:
    """Return a URL of the same folder: that of a file with another ending in place of its own, if it has one."""
    folder, slash, name = url.rpartition("/")
    stem = name.rpartition(".")[0] or name
    return f"{folder}{slash}{stem}{ending}"


def _content(context: JobContext, who: Everybody, request: ExportRequest, version_id: int | None) -> Content:
    fitted = who.fitted
    if request.what == "values":
        return _predicted(context, who.trained, request)
    known = None if request.include_known else who.known
    listed = "item" if request.what == "top-items" else "user"
    chosen = None if request.where is None else matching(context, version_id, listed, request.where)
    if request.what == "affinity":
        users = np.arange(len(fitted.train.users), dtype=np.int32)
        if chosen is not None:
            users = np.flatnonzero(_mask(fitted.train.users, chosen)).astype(np.int32)
        return Affinity.of(fitted, users, request.items, known)
    ids = fitted.train.items if listed == "item" else fitted.train.users
    allowed = None if chosen is None else fitted.mask(ids, chosen, f"{listed}s for which the condition holds")
    return TopLists(fitted, "user" if listed == "item" else "item", request.n, known, allowed)


def _mask(ids: IdMap, chosen: list[str]) -> np.ndarray:
    rows = ids.rows(chosen)
    mask = np.zeros(len(ids), dtype=bool)
    mask[rows[rows >= 0]] = True
    return mask


def _predicted(context: JobContext, fitted: Fitted, request: ExportRequest) -> Predicted:
    assert request.pairs is not None
    opener = SourceOpener(
        context.settings,
        context.staging,
        lambda text: context.require_going(0.03, text),
        anywhere=context.claim.anywhere,
    )
    source = opener.open(request.pairs, "pairs")
    for role in ("user", "item"):
        source.require(role, role)
    predicted = []
    for batch in source.batches(["user", "item"], lambda _: None):
        frame = batch.frame.select(pl.col("user", "item").cast(pl.String))
        for role in ("user", "item"):
            column = frame[role].replace("", None)
            if column.null_count():
                at = batch.row(int(column.is_null().arg_max() or 0))
                raise DataError(f"{source.at(at)} names no {role}", where=role)
        predicted.append(frame.to_arrow().cast(PAIRS))
    return Predicted(fitted, pa.concat_tables(predicted) if predicted else PAIRS.empty_table(), {})
