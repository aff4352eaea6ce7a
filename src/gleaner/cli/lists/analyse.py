"""gleaner lists analyse"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gleaner.cli.common import console, emit, follow_job, table, with_client

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.analysis import AnalysisReport, Sensitivity

KERNELS = ["linear", "rbf", "polynomial", "sigmoid", "cosine"]
BINS = click.IntRange(2, 20)
MOST_PLACES = 10
SUMMARY = {
    "mean": "mean",
    "dev.": "deviation",
    "least": "least",
    "25 %": "quarter",
    "half": "half",
    "75 %": "three_quarters",
    "most": "most",
}
"""Columns of the summary, and the field of each."""


@click.command()
@click.argument("file", required=False, type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--model", help="Instead of FILE: our own lists, of this model.")
@click.option("--beside", metavar="RUN", help="Histories from this run's training part, relevance from its test part.")
@click.option("--data", help="For a FILE without a run: the dataset version that histories come from.")
@click.option("--user", "user_column", default="user", show_default=True, help="Column of the user.")
@click.option("--item", "item_column", default="item", show_default=True, help="Column of the item.")
@click.option("--place", help="Column of the place, lowest first.  [place, position or rank]")
@click.option("--score", help="Column of the score, highest first.  [score, where there is no place]")
@click.option("-n", default=10, show_default=True, type=click.IntRange(1, 100), help="Places of each list.")
@click.option("--expected", default="popular", show_default=True, help="Family of the lists anybody would expect.")
@click.option("--expected-n", default=20, show_default=True, type=click.IntRange(1, 1000), help="How long those are.")
@click.option("--content", multiple=True, help="Item column that says what an item is, repeatable.  [all categories]")
@click.option("--history-bins", default=4, show_default=True, type=BINS, help="Ranges of history size.")
@click.option("--popularity-bins", default=4, show_default=True, type=BINS, help="Ranges of item popularity.")
@click.option("--bias-bins", default=4, show_default=True, type=BINS, help="Ranges of user bias.")
@click.option("--kernel", default="rbf", show_default=True, type=click.Choice(KERNELS), help="Of the kernel PCA.")
@click.option("--out", type=click.Path(dir_okay=False, path_type=Path), help="Parquet file for the figures by user.")
@with_client
def analyse(
    client: Client,
    file: Path | None,
    model: str | None,
    beside: str | None,
    data: str | None,
    user_column: str,
    item_column: str,
    place: str | None,
    score: str | None,
    n: int,
    expected: str,
    expected_n: int,
    content: tuple[str, ...],
    history_bins: int,
    popularity_bins: int,
    bias_bins: int,
    kernel: str,
    out: Path | None,
    as_json: bool,
) -> None:
    """Say how unexpected lists are, by seven published definitions, what that depends on and whether they agree.

    \b
    Example:
      gleaner lists analyse --model first-look.als --beside first-look
      gleaner lists analyse theirs.csv --data seeds@1 --content family --kernel cosine
    """
    from gleaner.client import data_calls, job_calls, list_calls
    from gleaner.wire.analysis import AnalyseRequest
    from gleaner.wire.lists import ListColumns

    if (file is None) == (model is None):
        raise click.UsageError("name a FILE of lists or a --model, one of the two")
    if file is not None and (beside is None) == (data is None):
        raise click.UsageError("name one of --beside RUN and --data NAME@VERSION")
    if out is not None and out.exists():
        raise click.BadParameter(f"{out} is there already; name another file", param_hint="--out")
    request = AnalyseRequest(
        model=model,
        upload=client.send(data_calls.upload(file)).upload if file else None,
        file=file.name if file else "lists",
        columns=ListColumns(user=user_column, item=item_column, place=place, score=score),
        beside=beside,
        data=data,
        n=n,
        expected=expected,
        expected_n=expected_n,
        content=list(content) or None,
        history_bins=history_bins,
        popularity_bins=popularity_bins,
        bias_bins=bias_bins,
        kernel=kernel,
    )
    job = follow_job(client, client.send(list_calls.analyse_lists(request)).id, quiet=as_json)
    analysis = client.send(list_calls.list_analysis(job.id))
    if out is not None:
        out.write_bytes(client.send(job_calls.job_file(job.id)))
    emit(analysis, as_json, lambda: show_analysis(analysis, out))


def show_analysis(report: AnalysisReport, out: Path | None) -> None:
    """Summary, rank curves, what the definitions depend on, agreement, the indexes."""
    from gleaner.cli.lists.commands import finding_lines

    page = console()
    beside = f", beside {report.beside}" if report.beside else ""
    page.print(
        f"[bold]{report.label}[/] on {report.data}{beside}: lists of {report.users:,} users, {report.places} places"
    )
    relevant = (
        "what the test part says is relevant" if report.relevance else "no test part: every item counts as relevant"
    )
    content = ", ".join(report.content) or "nothing"
    page.print(f"[dim]expected: {report.expected}, {report.expected_n} long; content: {content}; {relevant}[/]")
    for line in finding_lines(report.findings) if report.findings else []:
        page.print(line, soft_wrap=True)
    _summary(report)
    _curves(report)
    for title, of in (("history size", "by_history"), ("item popularity", "by_popularity"), ("user bias", "by_bias")):
        _depends(title, [(each.name, getattr(each, of)) for each in report.definitions])
    _agreement(report)
    _indexes(report)
    for name, why in report.left_out.items():
        page.print(f"[yellow]{name}:[/] {why}", soft_wrap=True)
    if out is not None:
        page.print(f"figures by user: {out}")


def _summary(report: AnalysisReport) -> None:
    page = console()
    columns = (*SUMMARY, "raw mean")
    rows = table("definition", *columns, right=columns, whole=("definition", *SUMMARY))
    # all of them fit a terminal of 80 columns
    rows.collapse_padding = True
    for each in report.definitions:
        values = [getattr(each.normal, name) for name in SUMMARY.values()]
        rows.add_row(each.name, *[f"{value:.3f}" for value in values], f"{each.raw.mean:.3f}")
    page.print(rows)
    for each in report.definitions:
        page.print(f"[dim]{each.name}: {each.formula} ({each.source})[/]", soft_wrap=True)
    page.print(
        "[dim]normalised over all listed items, 1 the most unexpected; a user's figure is the mean of the list[/]"
    )


def _curves(report: AnalysisReport) -> None:
    step = -(-report.places // MOST_PLACES)
    places = list(range(0, report.places, step))
    names = [str(place + 1) for place in places]
    rows = table("by place", *names, right=tuple(names), whole=("by place", *names))
    rows.collapse_padding = True
    for each in report.definitions:
        rows.add_row(each.name, *[_figure(each.by_place[place], 2) for place in places])
    console().print(rows)


def _depends(title: str, report: list[tuple[str, Sensitivity]]) -> None:
    bins = report[0][1].bins
    names = [f"{each.name}\n({each.n:,})" for each in bins]
    rows = table(f"by {title}", *names, "rho", right=(*names, "rho"), whole=(f"by {title}",))
    for name, each in report:
        rows.add_row(name, *[_figure(part.mean) for part in each.bins], _signed(each.rho))
    console().print(rows)


def _agreement(report: AnalysisReport) -> None:
    """Spearman above the diagonal, Kendall below it."""
    names = [each.name for each in report.definitions]
    rows = table("agreement", *[str(place + 1) for place in range(len(names))], whole=("agreement",))
    for i, name in enumerate(names):
        cells = []
        for j in range(len(names)):
            value = report.spearman[i][j] if j > i else report.kendall[i][j]
            cells.append("·" if i == j else _signed(value))
        rows.add_row(f"{i + 1} {name}", *cells)
    console().print(rows)
    console().print("[dim]Spearman's rho right of the diagonal, Kendall's tau left of it, over users[/]")


def _indexes(report: AnalysisReport) -> None:
    """One index by each method: what it says of each definition, and below how much of them it holds."""
    names = [part for each in report.indexes for part in (each.method, *(["weight"] if each.weights else []))]
    rows = table("one index: rho with", *names, right=tuple(names), whole=("one index: rho with",))
    for name in (each.name for each in report.definitions):
        cells = [(each.rho, each.weights) if each.weights else (each.rho,) for each in report.indexes]
        rows.add_row(name, *[_signed(part.get(name)) for parts in cells for part in parts])
    console().print(rows)
    for each in report.indexes:
        shares = ", ".join(f"{share:.0%}" for share in each.explained[:4])
        console().print(f"[dim]{each.method}: its directions explain {shares}; the first is the index[/]")


def _signed(value: float | None) -> str:
    return "" if value is None else f"{value:+.2f}"


def _figure(value: float | None, digits: int = 3) -> str:
    return "" if value is None else f"{value:.{digits}f}"
