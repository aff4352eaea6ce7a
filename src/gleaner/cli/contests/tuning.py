"""What a run tried, in the terminal: attempts of tuned contenders, learning curves, ablations."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from gleaner.cli.common import console, table

if TYPE_CHECKING:
    from gleaner.wire.contests.runs import Ablation
    from gleaner.wire.contests.tuning import Attempt, LearningCurve, Tuning

STATES = {"done": "done", "pruned": "[dim]pruned[/]", "failed": "[red]failed[/]"}
DOES = {"helps": "[green]helps[/]", "harms": "[red]harms[/]", "cannot tell": "[yellow]cannot tell[/]"}
STEPS = 10


def show_tunings(name: str, tunings: list[Tuning]) -> None:
    """A line per tuned contender."""
    out = console()
    if not tunings:
        out.print(f"{name} tunes nothing: give a parameter a range, as in `rank: {{choose: [16, 32, 64]}}`")
        return
    rows = table("contender", "tried", "pruned", "failed", f"best {tunings[0].metric}", "with", "what mattered",
                 right=("tried", "pruned", "failed", f"best {tunings[0].metric}"))  # fmt: skip
    for each in tunings:
        best = best_of(each)
        states = [attempt.state for attempt in each.attempts]
        counts = [str(len(states)), str(states.count("pruned")), str(states.count("failed"))]
        value = f"{best.value:.4f}" if best and best.value is not None else ""
        rows.add_row(each.contender, *counts, value, _setting(best.chosen) if best else "", _importance(each))
    out.print(rows)
    out.print("[dim]on the validation part; the test part was scored once, with the best setting of each[/]")
    out.print(f"[dim]every attempt: gleaner contest show {name} --tuning --contender {tunings[0].contender}[/]")


def show_tuning(name: str, tuning: Tuning) -> None:
    """Every attempt of one contender."""
    out = console()
    best = best_of(tuning)
    names = list(tuning.ranges)
    others = [key for key in (best.figures if best else {}) if key != tuning.metric][:3]
    losses = any(each.validation_loss is not None for each in tuning.attempts)
    beside = ["training loss", "validation loss"] if losses else []
    rows = table("", *names, tuning.metric, *others, *beside, "state", "s",
                 right=("", *names, tuning.metric, *others, *beside, "s"))  # fmt: skip
    for each in tuning.attempts:
        mark = " ★" if best is not None and each.number == best.number else ""
        rows.add_row(
            str(each.number),
            *[_as_text(each.chosen[key]) for key in names],
            f"[bold]{each.value:.4f}[/]{mark}" if mark else _figure(each.value),
            *[_figure(each.figures.get(key)) for key in others],
            *([_figure(each.training_loss), _figure(each.validation_loss)] if losses else []),
            STATES[each.state],
            f"{each.seconds:.2f}",
        )
    out.print(f"[bold]{name}[/], {tuning.contender}: {len(tuning.attempts)} attempts, scored on validation")
    out.print(rows)
    if tuning.result is not None:
        out.print(f"{tuning.result.search} search, ended by: {tuning.result.stopped_by}")
    if _importance(tuning):
        out.print(f"share of the variance of {tuning.metric} explained by: {_importance(tuning)}", soft_wrap=True)
    for each in tuning.attempts:
        if each.state == "failed":
            out.print(f"[red]attempt {each.number}:[/] {each.message}", soft_wrap=True)


def show_curves(name: str, curves: list[LearningCurve]) -> None:
    """By amount of data, then by iteration: a column per contender."""
    out = console()
    by_amount = [each for each in curves if each.amounts]
    by_round = [each for each in curves if any(each.metric in done.metrics for done in each.rounds)]
    if not by_amount and not by_round:
        out.print(f"{name} has no learning curves: ask for them with `curves: {{every: 5, amounts: [0.25, 0.5]}}`")
        return
    if by_amount:
        out.print(f"[bold]{name}[/], {by_amount[0].metric} on validation by share of the training cells")
        labels = [each.contender for each in by_amount]
        rows = table("share", "cells", *labels, right=("share", "cells", *labels))
        for place, point in enumerate(by_amount[0].amounts):
            cells = [_figure(each.amounts[place].mean) for each in by_amount]
            rows.add_row(f"{point.share:.0%}", f"{point.cells:,}", *cells)
        out.print(rows)
    if by_round:
        out.print(f"{by_round[0].metric} on validation by iteration")
        rows = table("contender", "iteration: figure")
        for each in by_round:
            figures = [
                (done.iteration, done.metrics[each.metric]) for done in each.rounds if each.metric in done.metrics
            ]
            step = -(-len(figures) // STEPS)
            shown = [*figures[:-1:step], figures[-1]]
            rows.add_row(each.contender, "  ".join(f"{iteration}: {value:.4f}" for iteration, value in shown))
        out.print(rows)


def show_ablations(ablations: list[Ablation], metric: str) -> None:
    """What each part that was left out adds."""
    if not ablations:
        return
    rows = table("part", "of", f"adds to {metric}", "95 %", "p (Holm)", "", right=(f"adds to {metric}", "p (Holm)"))
    for each in ablations:
        span = f"{each.low:+.4f} to {each.high:+.4f}"
        rows.add_row(
            each.lacks, each.contender, f"{each.difference:+.4f}", span, f"{each.p_holm:.3g}", DOES[each.verdict]
        )
    console().print(rows)


def best_of(tuning: Tuning) -> Attempt | None:
    """The attempt whose setting is taken."""
    done = [each for each in tuning.attempts if each.state == "done" and each.value is not None]
    sign = -1 if tuning.less_is_better else 1
    return max(done, key=lambda each: sign * (each.value or 0.0), default=None)


def _importance(tuning: Tuning) -> str:
    effects = tuning.result.effects if tuning.result else []
    return ", ".join(f"{each.parameter} {each.share:.0%} ({each.low:.0%} to {each.high:.0%})" for each in effects)


def _setting(chosen: dict[str, Any]) -> str:
    return ", ".join(f"{name} {_as_text(value)}" for name, value in chosen.items())


def _as_text(value: Any) -> str:
    return f"{value:g}" if isinstance(value, float) else str(value)


def _figure(value: float | None) -> str:
    return "" if value is None else f"{value:.4f}"
