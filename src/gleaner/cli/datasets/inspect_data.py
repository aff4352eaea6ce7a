"""gleaner data preview, sql, item, overlap, features, export: looking into a version."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from gleaner.cli.common import console, emit, table, with_client
from gleaner.cli.datasets.show import bar, newest

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.datasets import EncodingReport, ItemFacts, OverlapMap, QueryAnswer, RowsPage

OUT = click.Path(dir_okay=False, path_type=Path)
MOMENT = re.compile(r"\d{4}-\d{2}-\d{2}T\d{2}:\d{2}:\d{2}(\.\d+)?Z?")
TABLES = click.Choice(["interactions", "items", "users"])


@click.command()
@click.argument("version")
@click.option("--table", "of", type=TABLES, default="interactions", show_default=True, help="Which table.")
@click.option("--where", help="SQL condition over its columns, such as \"kind = 'request'\".")
@click.option("--sample", type=click.IntRange(1, 1000), help="So many rows drawn at random (always the same).")
@click.option("-n", "limit", default=20, show_default=True, type=click.IntRange(1, 1000), help="How many rows.")
@with_client
def preview(client: Client, version: str, as_json: bool, of: str, **options: Any) -> None:
    """Show rows of VERSION: the first, those for which a condition holds, or a sample.

    \b
    Example:
      gleaner data preview seeds --table items --where "'climbing' IN traits AND stock < 5"
    """
    from gleaner.client import data_calls

    data_version = newest(client, version)
    page = client.send(data_calls.rows(data_version.dataset, data_version.number, of, **options))
    emit(page, as_json, lambda: _show_rows(data_version.name, page))


def _show_rows(name: str, page: RowsPage) -> None:
    out = console()
    shown = "drawn at random" if page.sampled else "the first" if page.total > len(page.rows) else "all"
    out.print(f"[bold]{name}[/] {page.table}: {len(page.rows):,} of {page.total:,} rows, {shown}")
    _grid([column.name for column in page.columns], [column.type in ("number",) for column in page.columns], page.rows)


def _grid(names: list[str], numeric: list[bool], rows: list[list[Any]]) -> None:
    """Rows as a table, or, where the terminal is too narrow for one, as records."""
    out = console()
    cells = [[_cell(cell) for cell in row] for row in rows]
    widths = [max(len(name), *(len(row[at]) for row in cells), 0) for at, name in enumerate(names)]
    if sum(widths) + 3 * len(widths) <= out.width or len(names) == 1:
        shown = table(*names, right=tuple(name for name, right in zip(names, numeric, strict=True) if right))
        for row in cells:
            shown.add_row(*row)
        out.print(shown)
        return
    for row in cells:
        record = table("", "", right=())
        record.show_header = False
        for name, cell in zip(names, row, strict=True):
            record.add_row(f"[dim]{name}[/]", cell)
        out.print(record)


def _cell(value: Any) -> str:
    if value is None:
        return "[dim]–[/]"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return f"{value:.6g}"
    if isinstance(value, list):
        return "|".join(map(str, value))
    from rich.markup import escape

    text = str(value)
    if MOMENT.fullmatch(text):
        text = text.replace("T", " ").removesuffix("Z").removesuffix(" 00:00:00")
    return escape(text)


@click.command()
@click.argument("version")
@click.argument("query")
@click.option("--out", type=OUT, help="Write to this file, .csv or .parquet, instead of the terminal.")
@click.option("-n", "limit", default=1000, show_default=True, type=click.IntRange(1, 1_000_000), help="Most rows.")
@with_client
def sql(client: Client, version: str, query: str, as_json: bool, out: Path | None, limit: int) -> None:
    """Run a SELECT over the tables interactions, items and users of VERSION.

    Read-only, and bounded in time and memory. Written to a file, up to a million rows.

    \b
    Example:
      gleaner data sql seeds "SELECT kind, count(*) AS n FROM interactions GROUP BY kind ORDER BY n DESC"
    """
    from gleaner.client import data_calls

    data_version = newest(client, version)
    if out is None:
        answer = client.send(data_calls.query(data_version.dataset, data_version.number, query, limit))
        emit(answer, as_json, lambda: _show_answer(answer))
        return
    form = out.suffix.lower().removeprefix(".")
    if form not in ("csv", "parquet"):
        raise click.BadParameter(f"{out.name} ends neither in .csv nor in .parquet", param_hint="--out")
    given = click.get_current_context().get_parameter_source("limit") is not click.core.ParameterSource.DEFAULT
    content = client.send(
        data_calls.query_file(data_version.dataset, data_version.number, query, form, limit if given else 1_000_000)
    )
    _write(out, content)
    emit({"file": str(out), "bytes": len(content)}, as_json, lambda: click.echo(f"{out}: {len(content):,} bytes"))


def _show_answer(answer: QueryAnswer) -> None:
    numeric = [kind.startswith(("int", "uint", "float", "decimal")) for kind in answer.types]
    _grid(answer.columns, numeric, answer.rows)
    more = "; there are more (-n)" if answer.cut else ""
    console().print(f"[dim]{len(answer.rows):,} rows in {answer.seconds:.2f} s{more}[/]")


def _write(path: Path, content: bytes) -> None:
    """Whole or not at all."""
    beside = path.with_name(f"{path.name}.part")
    beside.write_bytes(content)
    beside.replace(path)


@click.command()
@click.argument("version")
@click.option("--out", type=click.Path(file_okay=False, path_type=Path), required=True, help="Folder to write to.")
@with_client
def export(client: Client, version: str, as_json: bool, out: Path) -> None:
    """Write every table of VERSION as Parquet.

    \b
    Example:
      gleaner data export seeds@1 --out seeds-1
    """
    from gleaner.client import data_calls

    data_version = newest(client, version)
    out.mkdir(parents=True, exist_ok=True)
    tables = [
        "interactions",
        *(["items"] if data_version.item_columns else []),
        *(["users"] if data_version.user_columns else []),
    ]
    written = {}
    for name in tables:
        path = out / f"{name}.parquet"
        _write(path, client.send(data_calls.table_file(data_version.dataset, data_version.number, name)))
        written[name] = path
    plain = {
        "version": data_version.name,
        "content_hash": data_version.content_hash,
        "files": {k: str(v) for k, v in written.items()},
    }
    emit(plain, as_json, lambda: _show_written(data_version.name, written))


def _show_written(name: str, written: dict[str, Path]) -> None:
    console().print(f"[bold]{name}[/]")
    for path in written.values():
        console().print(f"  {path}  {path.stat().st_size:,} bytes", soft_wrap=True)


@click.command()
@click.argument("version")
@click.argument("item_id", metavar="ITEM")
@click.option("-n", default=10, show_default=True, type=click.IntRange(1, 100), help="How many that go together.")
@with_client
def item(client: Client, version: str, item_id: str, as_json: bool, n: int) -> None:
    """Show one item of VERSION: its values, and what goes together with it.

    \b
    Example:
      gleaner data item seeds v-0363
    """
    from gleaner.client import data_calls

    data_version = newest(client, version)
    facts = client.send(data_calls.item_facts(data_version.dataset, data_version.number, item_id, n))
    emit(facts, as_json, lambda: _show_item(facts))


def _show_item(facts: ItemFacts) -> None:
    out = console()
    mean = f", mean value {facts.mean:.2f}" if facts.mean is not None else ""
    out.print(f"[bold]{facts.item}[/]  {facts.rows:,} rows of {facts.users:,} users{mean}")
    if facts.columns:
        columns = [f"{name} {_cell(value)}" for name, value in facts.columns.items() if value is not None]
        out.print("  " + ", ".join(columns), soft_wrap=True)
    if facts.histogram:
        most = max(each.rows for each in facts.histogram)
        shown = table("value", "rows", "", right=("value", "rows"))
        for each in facts.histogram:
            shown.add_row(f"{each.at:g}", f"{each.rows:,}", bar(each.rows / most))
        out.print(shown)
    if facts.together:
        shown = table("goes together with", "users of both", "share of its users", "lift",
                      right=("users of both", "share of its users", "lift"))  # fmt: skip
        for other in facts.together:
            shown.add_row(
                f"{other.item}  {other.label or ''}".strip(),
                f"{other.shared:,}",
                f"{other.share:.0%}",
                f"{other.lift:.2f}",
            )
        out.print(shown)


@click.command()
@click.argument("version")
@click.argument("users", nargs=-1, required=True, metavar="USER USER...")
@with_client
def overlap(client: Client, version: str, users: tuple[str, ...], as_json: bool) -> None:
    """Compare users of VERSION pair by pair: items in common, and how alike their values are.

    \b
    Example:
      gleaner data overlap seeds g-0417 g-1068 g-0001
    """
    from gleaner.client import data_calls

    data_version = newest(client, version)
    overlaps = client.send(data_calls.overlap(data_version.dataset, data_version.number, list(users)))
    emit(overlaps, as_json, lambda: _show_overlap(overlaps))


def _show_overlap(overlaps: OverlapMap) -> None:
    figures = ("in common", "of", "Jaccard", "correlation", "mean gap")
    shown = table("user", "other", *figures, right=figures)
    for pair in sorted(overlaps.pairs, key=lambda pair: -pair.jaccard):
        correlation = "–" if pair.correlation is None else f"{pair.correlation:.2f}"
        gap = "–" if pair.gap is None else f"{pair.gap:.2f}"
        shown.add_row(
            pair.user, pair.other, f"{pair.common:,}", f"{pair.items:,}", f"{pair.jaccard:.2f}", correlation, gap
        )
    console().print(shown)
    if overlaps.unknown:
        console().print(f"[yellow]without interactions:[/] {', '.join(overlaps.unknown)}")


@click.command()
@click.argument("version")
@click.option("--table", "of", type=click.Choice(["items", "users"]), default="items", show_default=True)
@with_client
def features(client: Client, version: str, as_json: bool, of: str) -> None:
    """Show how the item or user columns of VERSION become features of a model.

    \b
    Example:
      gleaner data features seeds --table items
    """
    from gleaner.client import data_calls

    data_version = newest(client, version)
    report = client.send(data_calls.features(data_version.dataset, data_version.number, of))
    emit(report, as_json, lambda: _show_features(data_version.name, report))


def _show_features(name: str, report: EncodingReport) -> None:
    out = console()
    out.print(
        f"[bold]{name}[/] {report.table}: {report.rows:,} rows, {report.features:,} features, "
        f"{report.filled:.1%} filled"
    )
    shown = table("column", "features", "missing", "how", right=("features", "missing"), whole=("column",))
    for column in report.columns:
        shown.add_row(column.column, f"{column.features:,}", f"{column.missing:,}", column.how)
    out.print(shown)
