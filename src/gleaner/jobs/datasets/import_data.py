"""Import: sources become the next version of a dataset, whole or not at all."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import polars as pl
import pyarrow.parquet as pq
from sqlalchemy import Connection

from gleaner.core.data.profile import ProfileFigures, profile
from gleaner.core.errors import DataError, MadeMeanwhileError
from gleaner.jobs.datasets.derive import DeriveSteps
from gleaner.jobs.datasets.findings import findings_of, mostly_dropped, refusals
from gleaner.jobs.datasets.import_rows import (
    ROW_TYPES,
    ROWS_PER_GROUP,
    ImportTally,
    InteractionWriter,
    RowFile,
    RowReader,
    context_columns,
    require_rows,
    row_columns,
)
from gleaner.jobs.datasets.import_run import ImportRun, TakenOver
from gleaner.jobs.datasets.import_side_tables import side_table
from gleaner.jobs.datasets.import_tables import read_whole
from gleaner.jobs.datasets.opening import SourceOpener
from gleaner.jobs.datasets.sources.places import without_secrets
from gleaner.jobs.worker.context import JobContext
from gleaner.store import datasets, jobs, live_columns
from gleaner.store.datasets import NewVersion, VersionFiles
from gleaner.store.files.artefacts import Artefact
from gleaner.store.records.datasets import VersionRecord
from gleaner.wire.datasets import Profile, TableColumn
from gleaner.wire.imports import Finding, ImportLook, ImportReport, ImportRequest, Source
from gleaner.wire.names import split_name

ROWS_DONE, PROFILED = 0.75, 0.92
MAX_TRIES = 5
"""How often a version is read again because another was made meanwhile."""


def run(context: JobContext) -> dict[str, Any]:
    """Make a version; answers what was made."""
    dataset, request = context.claim.subject, ImportRequest.model_validate(context.claim.payload)
    if request.only_look:
        return _look(context, dataset, request)
    follows_newest = _is_newest(context, dataset, request)
    result: dict[str, Any] = {}

    def make() -> MadeVersion:
        return read(context, dataset, _onto_newest(context, dataset, request) if follows_newest else request)

    def finish(connection: Connection, made: MadeVersion, name: str) -> None:
        facts = made.new.profile
        result.update(version=name, rows=facts.rows, users=facts.users, items=facts.items)
        text = f"{name}: {facts.rows:,} rows, {facts.users:,} users, {facts.items:,} items"
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=text)

    keep_version(context, dataset, make, finish, follows_newest=follows_newest)
    return result


def _look(context: JobContext, dataset: str, request: ImportRequest) -> dict[str, Any]:
    """Return what an import would make, and keep nothing. Bad rows are counted, also where they would refuse it."""
    outside = "drop" if request.outside in (None, "refuse") else request.outside
    forgiving = request.model_copy(update={"strictness": "lenient", "outside": outside})
    facts = _gathered(context, dataset, request if request.strictness == "lenient" else forgiving, None)
    counts = {each: facts.profiled.facts[each] for each in ("rows", "users", "items")}
    findings = [*refusals(request, facts.report), *facts.report.findings]
    report = facts.report.model_copy(update={"strictness": request.strictness, "findings": findings})
    result = ImportLook(report=report, **counts).model_dump(mode="json")
    text = "{rows:,} rows, {users:,} users, {items:,} items would be kept".format(**counts)
    with context.engine.begin() as connection:
        jobs.finish(connection, context.claim, jobs.JobState.DONE, result=result, message=text)
    return result


def _is_newest(context: JobContext, dataset: str, request: ImportRequest) -> bool:
    """Return True where the version to add to is the newest, so that the import is meant to follow it."""
    if request.onto is None:
        return False
    with context.engine.begin() as connection:
        return datasets.newest(connection, dataset).name == f"{dataset}@{request.onto}"


def _onto_newest(context: JobContext, dataset: str, request: ImportRequest) -> ImportRequest:
    with context.engine.begin() as connection:
        newest = datasets.newest(connection, dataset).name
    number = split_name(newest, "dataset version")[1]
    if number != request.onto:
        context.log(f"{newest} was made meanwhile: the rows are added to it instead of {dataset}@{request.onto}")
    return request.model_copy(update={"onto": number})


@dataclass(frozen=True)
class MadeVersion:
    """A version whose files are in place, and the version whose rows it starts from, if any.

    times_forgotten: how often users of the dataset had been forgotten before the rows were read.
    """

    new: NewVersion
    base: VersionFiles | None
    times_forgotten: int


def keep_version(
    context: JobContext,
    dataset: str,
    make: Callable[[], MadeVersion | None],
    finish: Callable[[Connection, MadeVersion, str], None],
    *,
    follows_newest: bool,
) -> str | None:
    """Make a version and record it; return its name, or None where there is nothing to make.

    The version is made again when, in between, its base was rewritten, a user was forgotten, or, with
    `follows_newest`, another version became the newest. So no rows are lost, and nobody who was forgotten returns.

    finish: called with the version's name in the transaction that records it.

    Raises MadeMeanwhileError after MAX_TRIES.
    """
    for tries_left in reversed(range(MAX_TRIES)):
        made = make()
        if made is None:
            return None
        try:
            with context.engine.begin() as connection:
                jobs.require_current(connection, context.claim)
                if made.base is not None:
                    datasets.require_unforgotten(connection, dataset, made.times_forgotten)
                    datasets.require_unchanged(connection, made.base)
                    if follows_newest:
                        datasets.require_newest(connection, dataset, made.base)
                name = datasets.add_version(connection, dataset, made.new)
                finish(connection, made, name)
                return name
        except MadeMeanwhileError as error:
            if not tries_left:
                raise
            context.log(f"{error.message}; reading again")
    return None


def read(
    context: JobContext,
    dataset: str,
    request: ImportRequest,
    events_upto: int | None = None,
    times_forgotten: int | None = None,
) -> MadeVersion:
    """Read, check, write beside and profile the rows of a version.

    events_upto: the number of the last event that is among the rows given.
    times_forgotten: how often users had been forgotten before those events were read.
    """
    if times_forgotten is None:
        with context.engine.begin() as connection:
            times_forgotten = 0 if request.onto is None else datasets.times_forgotten(connection, dataset)
    facts = _gathered(context, dataset, request, events_upto)
    work, request = facts.work, facts.work.request
    context.require_going(0.96, "keeping the version")
    new = NewVersion(
        content_hash=work.content.hexdigest(),
        roles=request.roles.model_copy(),
        profile=Profile.model_validate(facts.profiled.facts),
        report=facts.report,
        item_columns=facts.items[1],
        user_columns=facts.users[1],
        context_columns=facts.contexts,
        parts=_parts(pl.scan_parquet(facts.rows)),
        scale=request.scale,
        base=request.onto,
        changes_upto=work.taken_over.changes_upto,
        events_upto=work.taken_over.events_upto,
        request=_kept_request(request),
        interactions=context.artefacts.put(facts.rows, "parquet"),
        items=_put(context, facts.items[0], "items"),
        users=_put(context, facts.users[0], "users"),
        user_activity=_require(_put(context, facts.profiled.users, "user_activity")),
        item_activity=_require(_put(context, facts.profiled.items, "item_activity")),
    )
    return MadeVersion(new, None if work.base is None else work.base[1], times_forgotten)


@dataclass(frozen=True, eq=False)
class _Gathered:
    """What was read, before any of it is kept. rows: the file that was written beside."""

    work: ImportRun
    rows: Path
    profiled: ProfileFigures
    report: ImportReport
    contexts: list[TableColumn]
    items: tuple[pl.DataFrame | None, list[TableColumn]]
    users: tuple[pl.DataFrame | None, list[TableColumn]]


def _gathered(context: JobContext, dataset: str, request: ImportRequest, events_upto: int | None) -> _Gathered:
    opener = SourceOpener(
        context.settings,
        context.staging,
        lambda text: context.require_going(0.0, text),
        anywhere=context.claim.anywhere,
    )
    base = _base(context, dataset, request)
    request = _on_scale_of(context, base, request)
    work = ImportRun(context, request, opener, base, _taken_over(context, base, events_upto))
    for name, spec in request.tables.items():
        source = opener.open(spec, f"tables.{name}")
        steps = DeriveSteps(source, spec.derive, {})
        work.joined[name] = steps.apply(read_whole(source, source.columns)).frame
    rows = context.staging / "interactions.parquet"
    readers, writer, tally = _write_rows(work, rows)
    context.require_going(ROWS_DONE, "profiling")
    scanned = pl.scan_parquet(rows)
    profiled = profile(scanned, writer.rows - writer.pairs_again())
    context.require_going(PROFILED, "looking for what is odd")
    work.findings = findings_of(request, rows, writer, tally, profiled) + work.findings
    contexts = context_columns(scanned, readers, work.base[0].context_columns if work.base else [])
    items, users = side_table(work, "item", profiled), side_table(work, "user", profiled)
    work.findings += _inherited(work.base) + mostly_dropped(work.files)
    report = ImportReport(strictness=request.strictness, files=work.files, findings=_ordered(work.findings))
    _require_strict(report)
    return _Gathered(work, rows, profiled, report, contexts, items, users)


def _taken_over(
    context: JobContext, base: tuple[VersionRecord, VersionFiles] | None, events_upto: int | None
) -> TakenOver:
    if base is None:
        return TakenOver()
    with context.engine.begin() as connection:
        dataset_id, changes_upto = datasets.dataset_and_changes(connection, base[1].id)
        upto = live_columns.settled_upto(connection)
        sides: tuple[live_columns.Side, ...] = ("item", "user")
        cells = {side: live_columns.cells_of(connection, dataset_id, side, changes_upto) for side in sides}
    return TakenOver(cells, upto, base[1].events_upto if events_upto is None else events_upto)


def _base(context: JobContext, dataset: str, request: ImportRequest) -> tuple[VersionRecord, VersionFiles] | None:
    if request.onto is None:
        return None
    with context.engine.begin() as connection:
        reference = f"{dataset}@{request.onto}"
        return datasets.version(connection, reference), datasets.files(connection, reference)


def _on_scale_of(
    context: JobContext, base: tuple[VersionRecord, VersionFiles] | None, request: ImportRequest
) -> ImportRequest:
    """The request on the scale of the version it adds to, where it declares none of its own.

    Raises DataError where rows of that version lie outside one that it does declare.
    """
    if base is None or (request.scale or base[1].scale) is None:
        return request
    if request.scale is None:
        return request.model_copy(update={"scale": base[1].scale})
    low, high = request.scale
    rows = pl.scan_parquet(context.artefacts.local_path(base[1].interactions_file))
    if "value" in rows.collect_schema():
        outside = ~pl.col("value").is_between(low, high).fill_null(True)
        n = int(rows.select(outside.sum()).collect(engine="streaming").item())
        if n:
            text = (
                f"{base[0].name} has {n:,} values outside the scale {low:g} to {high:g}; import it anew on that scale"
            )
            raise DataError(text, where="scale")
    return request


def _write_rows(work: ImportRun, out: Path) -> tuple[list[RowReader], InteractionWriter, ImportTally]:
    """All interactions into one Parquet file: those of the version added to first, then file by file."""
    tally, now = ImportTally(), datetime.now(UTC)
    readers = []
    for part, place, spec in _row_sources(work.request):
        source = work.opener.open(spec, place, work.request.roles.user)
        steps = DeriveSteps(source, spec.derive, work.joined)
        file = RowFile(source, steps, part, spec.types)
        readers.append(RowReader(file, work.request, tally, now))
    base_columns = list(pq.read_schema(_base_file(work)).names) if work.base else []
    columns = row_columns(readers, base_columns)
    if work.base:
        schema = pq.read_schema(_base_file(work))
        columns |= {
            name: schema.field(name).type for name in base_columns if name not in ROW_TYPES and name not in columns
        }
    writer = InteractionWriter(out, columns, work.content)
    if work.base:
        for batch in pq.ParquetFile(_base_file(work)).iter_batches(ROWS_PER_GROUP):
            writer.add(pl.DataFrame(pl.from_arrow(batch)))
            work.context.require_going(0.0, f"copying {work.base[0].name}")
    for turn, reader in enumerate(readers):
        _read_file(work, reader, writer, turn / len(readers), (turn + 1) / len(readers))
    writer.close()
    require_rows(writer, work.files)
    for reader in readers:
        source = reader.file.source
        for level, text in source.notes:
            tally.note(level, text)
        for what, n in reader.file.steps.unmatched.items():
            tally.note("warning", f"{source.name}: {n:,} rows: {what}")
        if reader.times.assumes_utc:
            tally.note("info", f"{source.name}: {reader.named['time']} names no time zone; UTC is assumed")
    return readers, writer, tally


def _read_file(work: ImportRun, reader: RowReader, writer: InteractionWriter, start: float, stop: float) -> None:
    name = reader.file.source.name

    def report_progress(done: float) -> None:
        work.context.require_going(ROWS_DONE * (start + (stop - start) * done), f"reading {name}")

    for frame in reader.frames(report_progress):
        writer.add(frame)
    part = f"interactions, {reader.file.part}" if reader.file.part else "interactions"
    work.files.append(reader.report(part))


def _base_file(work: ImportRun) -> Path:
    assert work.base is not None
    return work.context.artefacts.local_path(work.base[1].interactions_file)


def _row_sources(request: ImportRequest) -> list[tuple[str | None, str, Source]]:
    if request.interactions is not None:
        return [(None, "interactions", request.interactions)]
    if request.parts is None:
        return []
    named = {part: getattr(request.parts, part) for part in ("training", "validation", "test")}
    return [(part, f"parts.{part}", spec) for part, spec in named.items() if spec is not None]


def _parts(rows: pl.LazyFrame) -> dict[str, int]:
    if "part" not in rows.collect_schema().names():
        return {}
    counted = rows.group_by("part").agg(n=pl.len()).collect(engine="streaming")
    return {row["part"]: row["n"] for row in counted.sort("n", descending=True).iter_rows(named=True)}


def _inherited(base: tuple[VersionRecord, VersionFiles] | None) -> list[Finding]:
    """What was done to the rows of the version added to, so that their values are not what was sent: still true."""
    if base is None:
        return []
    of_scale = [each for each in base[0].report.findings if each.code == "scale"]
    return [
        each.model_copy(
            update={"text": each.text if each.text.startswith("of ") else f"of {base[0].name}: {each.text}"}
        )
        for each in of_scale
    ]


def _put(context: JobContext, frame: pl.DataFrame | None, name: str) -> Artefact | None:
    if frame is None:
        return None
    path = context.staging / f"{name}.parquet"
    frame.write_parquet(path, compression="zstd")
    return context.artefacts.put(path, "parquet")


def _require(artefact: Artefact | None) -> Artefact:
    assert artefact is not None
    return artefact


def _ordered(findings: list[Finding]) -> list[Finding]:
    return sorted(findings, key=lambda finding: finding.level != "warning")


def _require_strict(report: ImportReport) -> None:
    warnings = [finding.text for finding in report.findings if finding.level == "warning"]
    if report.strictness == "strict" and warnings:
        listed = "; ".join(warnings)
        raise DataError(f"strictness is strict, and there is something to warn of: {listed}", where="strictness")


def _kept_request(request: ImportRequest) -> dict[str, Any]:
    """The request as it is kept with the version: without passwords."""
    kept = request.model_dump(mode="json", exclude_defaults=True)
    for name, source in request.sources().items():
        if source.url is not None:
            target: Any = kept
            for key in name.split(".", 1):
                target = target[key]
            target["url"] = without_secrets(source.url)
    return kept
