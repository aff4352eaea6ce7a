"""Format, columns, roles and types of files, and a few of their rows."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import polars as pl

from gleaner.core.data.tables.column_types import guess_type
from gleaner.core.data.tables.name_column import STORED_AS, guess_name_column
from gleaner.core.data.tables.roles import propose_roles
from gleaner.core.data.tables.time_formats import fitting_formats
from gleaner.core.errors import DataError, InputError
from gleaner.jobs.datasets.derive import DeriveSteps
from gleaner.jobs.datasets.opening import SourceOpener
from gleaner.jobs.datasets.sources.base import Batch, TableSource
from gleaner.settings import Settings
from gleaner.wire import imports as wire
from gleaner.wire.common import FieldProblem
from gleaner.wire.imports import ColumnGuess, FileProposal, Proposal, ProposalRequest, TimeFormat

HEAD_ROWS = 2000
PREVIEW_ROWS = 5
EXAMPLES = 3
CELL_CHARACTERS = 200
MOST_FORMATS = 6
NEARLY, HELD = 0.9, 0.2
"""Share of different cells that an id column has, and share of the interactions' cells that it holds, in first rows."""
ROLE_TYPES = {"user": "id", "item": "id", "value": "number", "kind": "category", "time": "time"}


def look(settings: Settings, folder: Path, request: ProposalRequest, *, anywhere: bool) -> Proposal:
    """Propose roles for the interactions and types for the tables, each with its reason.

    A table that cannot be read, and a step that makes no column, are problems of the answer: they do not hide the other
    files. Raises DataError where the interactions cannot be opened.

    folder: takes what is fetched. anywhere: whether the caller may read any URL.
    """
    opener = SourceOpener(settings, folder, lambda _: None, look=HEAD_ROWS, anywhere=anywhere)
    problems: list[FieldProblem] = []
    joined: dict[str, tuple[TableSource, pl.DataFrame]] = {}
    for name, spec in request.tables.items():
        with _noting(problems, f"tables.{name}"):
            joined[name] = _opened(opener, spec, f"tables.{name}")
    heads = _heads(request, opener, {name: head for name, (_, head) in joined.items()}, problems)
    proposal = _proposal(request, heads)
    for name, (source, head) in joined.items():
        proposal.files.append(
            _described(f"tables.{name}", source, head, [_typed(head, column) for column in head.columns])
        )
    proposal.problems = problems
    return proposal


def _heads(
    request: ProposalRequest, opener: SourceOpener, tables: dict[str, pl.DataFrame], problems: list[FieldProblem]
) -> dict[str, tuple[TableSource, pl.DataFrame]]:
    """Return source and first rows of each part that can be opened. After a wrong step the rows are as in the file."""
    heads: dict[str, tuple[TableSource, pl.DataFrame]] = {}
    interactions = request.interactions
    try:
        heads["interactions"] = _opened(opener, interactions, "interactions")
    except InputError as error:
        raise DataError(error.message, where="interactions") from error
    for part in ("items", "users"):
        spec: wire.Source | None = getattr(request, part)
        if spec is not None:
            with _noting(problems, part):
                heads[part] = _opened(opener, spec, part)
    for part, (source, head) in heads.items():
        with _noting(problems, part):
            heads[part] = (source, _derived(source, getattr(request, part), head, tables))
    return heads


@contextmanager
def _noting(problems: list[FieldProblem], part: str) -> Iterator[None]:
    """Turn an error about one part into a problem of its field: of the step or setting where the error names one."""
    try:
        yield
    except InputError as error:
        within = error.where is not None and error.where.startswith("derive.")
        problems.append(FieldProblem(field=f"{part}.{error.where}" if within else part, message=error.message))


def _opened(opener: SourceOpener, spec: wire.Source, part: str) -> tuple[TableSource, pl.DataFrame]:
    """A source and its first rows. A wide table is shown as it is: its roles are its own."""
    source = opener.open(spec.model_copy(update={"wide": False}), part)
    return source, source.head(HEAD_ROWS)


def _derived(
    source: TableSource, spec: wire.Source, head: pl.DataFrame, tables: dict[str, pl.DataFrame]
) -> pl.DataFrame:
    """The first rows with the columns that steps make of others, and of the first rows of tables that are joined."""
    if not spec.derive:
        return head
    batches = source.batches(source.columns, lambda _: None)
    first = next(batches).first_row
    return DeriveSteps(source, spec.derive, tables, skips_wrong_times=True).apply(Batch(head, first)).frame


def _proposal(request: ProposalRequest, heads: dict[str, tuple[TableSource, pl.DataFrame]]) -> Proposal:
    ids: dict[str, pl.Series] = {
        part: _id_column(heads[part][1], heads["interactions"][1]) for part in ("items", "users") if part in heads
    }
    guesses = propose_roles(heads["interactions"][1], ids.get("items"), ids.get("users"))
    if request.interactions.wide:
        guesses = [guess for guess in guesses if guess.role == "user"]
    by_column = {guess.column: guess for guess in guesses}
    names = {part: guess_name_column(heads[part][1], ids[part].name) for part in ids}
    files = []
    for part, (source, head) in heads.items():
        columns = []
        for name in head.columns:
            role = by_column.get(name) if part == "interactions" else None
            is_id = part != "interactions" and ids[part].name == name
            if is_id:
                column = ColumnGuess(column=name, role=part.removesuffix("s"), type="id", reason="the table's id")
            elif role:
                column = ColumnGuess(column=name, role=role.role, type=ROLE_TYPES[role.role], reason=role.reason)
            else:
                column = _typed(head, name)
                guessed = names.get(part)
                if guessed is not None and guessed[0] == name:
                    column = _as_name(column, guessed[1])
            columns.append(column)
        files.append(_described(part, source, head, columns))
    roles = {guess.role: guess.column for guess in guesses}
    needed = ("user",) if request.interactions.wide else ("user", "item")
    return Proposal(files=files, roles=roles, missing=[role for role in needed if role not in roles])


def _as_name(column: ColumnGuess, reason: str) -> ColumnGuess:
    """Give a column the role `name`. A column called title or label is shown as the name under its own name."""
    role = None if column.column in STORED_AS[1:] else "name"
    return column.model_copy(update={"role": role, "type": "text", "reason": f"what people call each row, {reason}"})


def _typed(head: pl.DataFrame, name: str) -> ColumnGuess:
    """A column without a role, by its type."""
    guess = guess_type(head[name])
    return ColumnGuess(column=name, type=guess.kind, separator=guess.separator, reason=guess.reason)


def _described(part: str, source: TableSource, head: pl.DataFrame, columns: list[ColumnGuess]) -> FileProposal:
    """One file with examples of each column and its first rows."""
    for column in columns:
        cells = head[column.column].drop_nulls().unique(maintain_order=True).head(EXAMPLES + 1)
        column.examples = [cut(text) for cell in cells if (text := str(cell))][:EXAMPLES]
        if part == "interactions" and column.type in ("time", "text", "category", "number", "date"):
            column.time_formats = _time_formats(head[column.column])
    preview = head.head(PREVIEW_ROWS).with_columns(
        pl.col(name).list.join("|") if kind.base_type() == pl.List else pl.col(name).cast(pl.String)
        for name, kind in head.schema.items()
    )
    return FileProposal(
        part=part,
        file=source.name,
        format=source.format,
        details=source.details,
        columns=columns,
        preview=[[None if cell is None else cut(cell) for cell in row] for row in preview.iter_rows()],
    )


def _time_formats(cells: pl.Series) -> list[TimeFormat]:
    """Return the formats that a column may be written in; nothing for one that is typed in the file."""
    if cells.dtype != pl.String and not cells.dtype.is_integer():
        return []
    formats = fitting_formats(cells.cast(pl.String))[:MOST_FORMATS]
    return [TimeFormat(format=each.form, label=each.label, share=each.share) for each in formats]


def cut(text: str) -> str:
    """Return a cell as it is shown: its first characters, with dots where there are more."""
    return text if len(text) <= CELL_CHARACTERS else f"{text[: CELL_CHARACTERS - 1]}\u2026"


def _id_column(table: pl.DataFrame, rows: pl.DataFrame) -> pl.Series:
    """Return the id column of a table, which may hold a blank or come twice in a few rows.

    A column of the interactions' name, else the one that holds most of the ids of an interactions' column, else the
    first whose cells never come twice.
    """
    plain = [name for name, kind in table.schema.items() if kind.base_type() not in (pl.List, pl.Struct)]
    texts = {name: table[name].cast(pl.String).replace("", None).drop_nulls() for name in plain}
    distinct = [name for name in plain if len(texts[name]) and texts[name].n_unique() >= NEARLY * table.height]
    unique = [name for name in plain if table[name].cast(pl.String).is_unique().all()]
    shared = [name for name in distinct if name in rows.columns]
    named = [name for name in distinct if name == "id"]
    holding = sorted(distinct, key=lambda name: -_held(texts[name], rows))
    holding = [name for name in holding[:1] if _held(texts[name], rows) >= HELD]
    return table[(shared or named or holding or unique or distinct or plain or table.columns)[0]]


def _held(ids: pl.Series, rows: pl.DataFrame) -> float:
    """Return the largest share of the cells of an interactions' column that are among some ids."""
    shares = [rows[name].cast(pl.String).is_in(ids.implode()).mean() for name in rows.columns if rows.height]
    return max((float(share or 0) for share in shares), default=0.0)  # type: ignore[arg-type]
