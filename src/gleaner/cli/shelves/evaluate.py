"""gleaner shelf evaluate"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gleaner.cli.common import console, emit, follow_job, table, with_client
from gleaner.cli.contests.commands import read_file

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import Console

    from gleaner.client import Client
    from gleaner.wire.contests.runs import Figure
    from gleaner.wire.shelves.evaluations import CandidatesReport, ShelfEvaluation

SUFFIXES = (".yaml", ".yml")


@click.command()
@click.argument("shelf")
@click.option("--beside", metavar="RUN", required=True, help="Evaluate on the test part of this run.")
@click.option("--users", default=5_000, show_default=True, type=click.IntRange(1, 1_000_000), help="At most so many.")
@with_client
def evaluate(client: Client, shelf: str, beside: str, users: int, as_json: bool) -> None:
    """Evaluate a shelf, published or a FILE.yaml, before anyone is served by it.

    Its models are fitted on what the test part of a contest's run leaves, and it lists for the users of that part. Told
    are the recall of the candidates, how well they are put in order, what slots, order and condition cost, and how the
    whole does beside the run's contenders.

    \b
    Examples:
      gleaner shelf evaluate for-growers --beside first-look
      gleaner shelf evaluate two-stages.yaml --beside stages
    """
    from gleaner.client import shelf_calls
    from gleaner.wire.contests.contest import FileRequest
    from gleaner.wire.shelves.evaluations import EvaluateShelfRequest

    path = Path(shelf)
    if path.suffix in SUFFIXES:
        if not path.is_file():
            raise click.BadParameter(f"there is no file {shelf}", param_hint="SHELF")
        file = FileRequest(file=read_file(path), name=path.name)
        request = EvaluateShelfRequest(file=file, beside=beside, users=users)
    else:
        request = EvaluateShelfRequest(shelf=shelf, beside=beside, users=users)
    job = follow_job(client, client.send(shelf_calls.evaluate_shelf(request)).id, quiet=as_json)
    evaluation = client.send(shelf_calls.shelf_evaluation(job.id))
    emit(evaluation, as_json, lambda: show_evaluation(evaluation))


def show_evaluation(evaluation: ShelfEvaluation) -> None:
    """Stage by stage, then the whole beside what it is compared with."""
    from gleaner.cli.contests.leaderboard import show_summary

    out, metric = console(), evaluation.decide_by
    drawn = f" of {evaluation.users_of_part:,}" if evaluation.users < evaluation.users_of_part else ""
    out.print(
        f"[bold]{evaluation.label}[/] on the test part of {evaluation.data}, beside {evaluation.beside}: "
        f"{evaluation.users:,}{drawn} users, {evaluation.for_everyone:,} of whom get a list of the fallback",
        soft_wrap=True,
    )
    if evaluation.candidates is not None:
        _show_candidates(out, evaluation.candidates, metric)
    _show_variants(out, evaluation)
    _show_work(out, evaluation)
    for note in evaluation.notes:
        out.print(f"[yellow]{note}[/]", soft_wrap=True)
    if evaluation.comparison is not None:
        show_summary(evaluation.comparison)


def _show_candidates(out: Console, candidates: CandidatesReport, metric: str) -> None:
    rows = table("candidates from", "of a user", "recall", right=("of a user", "recall"))
    for each in candidates.sources:
        rows.add_row(each.name, f"{each.taken:,.0f}", _with_interval(each.recall))
    out.print(rows)
    scored, brought = (_of(figures, metric) for figures in (candidates.scored, candidates.brought))
    if scored is not None and brought is not None:
        out.print(
            f"given the candidates ({candidates.users:,} users have a relevant one among them), {metric}: "
            f"scored {_with_interval(scored)}, as the sources bring them {_with_interval(brought)}",
            soft_wrap=True,
        )


def _show_variants(out: Console, evaluation: ShelfEvaluation) -> None:
    labels = [figure.metric for figure in evaluation.figures]
    adds = {
        pair.second: f"{pair.difference:+.4f} ({pair.low:+.4f} to {pair.high:+.4f}), {pair.verdict}"
        for pair in evaluation.price
    }
    rows = table("lists", *labels, "what that part adds", right=tuple(labels))
    rows.add_row("as served", *map(_with_interval, evaluation.figures), "")
    for variant in evaluation.variants:
        cells = [f"{figure.mean:.4f}" if (figure := _of(variant.figures, name)) else "" for name in labels]
        rows.add_row(variant.label, *cells, adds.get(variant.label, ""))
    for each in evaluation.contenders:
        cells = [f"{figure.mean:.4f}" if (figure := _of(each.figures, name)) else "" for name in labels]
        rows.add_row(f"[dim]{each.contender}[/]", *cells, "")
    out.print(rows)


def _show_work(out: Console, evaluation: ShelfEvaluation) -> None:
    rows = table("model", "family", "fitted in", "MB", right=("fitted in", "MB"))
    for each in evaluation.models:
        rows.add_row(each.model, each.family, f"{each.seconds:.1f} s", f"{each.memory_mb:,.0f}")
    out.print(rows)
    stages = ", ".join(f"{each.stage} {each.milliseconds:.2f}" for each in evaluation.stages)
    out.print(f"[dim]milliseconds of a list (medians): {stages}[/]", soft_wrap=True)


def _of(figures: Sequence[Figure], metric: str) -> Figure | None:
    return next((each for each in figures if each.metric == metric), None)


def _with_interval(figure: Figure) -> str:
    if figure.low is None or figure.high is None:
        return f"{figure.mean:.4f}"
    return f"{figure.mean:.4f} ({figure.low:.4f} to {figure.high:.4f})"
