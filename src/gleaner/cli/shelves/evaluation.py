"""What a shelf came to on a test part, in the terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from gleaner.cli.common import console, table

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.console import Console

    from gleaner.wire.contests.runs import Figure
    from gleaner.wire.shelves.evaluations import CandidatesReport, ShelfEvaluation


def show_evaluations(evaluations: Sequence[ShelfEvaluation]) -> None:
    """Each of the shelves that a contest names."""
    for each in evaluations:
        show_evaluation(each)
    if not evaluations:
        console().print("The contest names no shelves, or they are not evaluated yet.")


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
        took = f"{each.seconds:.1f} s" + (", by the run" if each.by_the_run else "")
        rows.add_row(each.model, each.family, took, f"{each.memory_mb:,.0f}")
    out.print(rows)
    stages = ", ".join(f"{each.stage} {each.milliseconds:.2f}" for each in evaluation.stages)
    out.print(f"[dim]milliseconds of a list (medians): {stages}[/]", soft_wrap=True)


def _of(figures: Sequence[Figure], metric: str) -> Figure | None:
    return next((each for each in figures if each.metric == metric), None)


def _with_interval(figure: Figure) -> str:
    if figure.low is None or figure.high is None:
        return f"{figure.mean:.4f}"
    return f"{figure.mean:.4f} ({figure.low:.4f} to {figure.high:.4f})"
