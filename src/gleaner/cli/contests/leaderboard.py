"""A contest's leaderboard in the terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from gleaner.cli.common import console, table
from gleaner.cli.contests.tuning import show_ablations
from gleaner.cli.shelves.evaluation import show_evaluations

if TYPE_CHECKING:
    from collections.abc import Sequence

    from rich.table import Table

    from gleaner.wire.contests.runs import (
        ContestCheck,
        ContestComparison,
        Figure,
        PartReport,
        Run,
        SegmentFigure,
        Segments,
        Standing,
        ValueReport,
    )
    from gleaner.wire.shelves.evaluations import ShelfEvaluation

BAR, NARROW_BAR = 20, 18
WIDE = 118
BESIDE = 80
"""Width of the leaderboard without further metrics and names."""
FIGURE = len("0.1234 ±0.0123")
VERDICTS = {
    "better": "[green]better[/]",
    "worse": "[red]worse[/]",
    "cannot tell": "[yellow]cannot tell[/]",
    "baseline": "baseline",
}


def show_run(run: Run, evaluations: Sequence[ShelfEvaluation] = ()) -> None:
    """Leaderboard, what it rests on, and what its figures mean."""
    out = console()
    out.print(f"[bold]{run.name}[/] on {run.data}, decided by {run.decide_by} ({run.state})")
    if run.standings:
        others, beside = _others(run)
        out.print(_leaderboard(run, others if beside else []))
        if others and not beside:
            for rows in _figures(run, others):
                out.print(rows)
    for part in run.parts:
        line = f"{part.label}: {part.rows:,} rows, {part.users:,} users, {part.items:,} items"
        if part.users_counted is not None:
            line += f"; scored on {part.users_counted:,} users with {part.pairs_counted:,} new items ({_unseen(part)})"
        out.print(f"[dim]{line}[/]", soft_wrap=True)
        if part.leak and part.leak.leaks:
            out.print(f"[yellow]leak, {part.label}: {part.leak.verdict}[/]", soft_wrap=True)
    for step in run.preparation:
        out.print(f"[dim]{step.name}: {step.rows_in:,} -> {step.rows_out:,} rows; {step.note}[/]", soft_wrap=True)
    for name in ("candidates", "users", "interval"):
        if name in run.definitions:
            out.print(f"[dim]{name}: {run.definitions[name]}[/]", soft_wrap=True)
    _verdict(run)
    if evaluations:
        show_evaluations(evaluations)


def _unseen(part: PartReport) -> str:
    """What became of users and items that training never saw."""
    users, items = (part.unseen_users, part.new_users, "users"), (part.unseen_items, part.new_items, "items")
    left_out = [f"{n:,} {name}" for n, kept, name in (users, items) if n or kept is None]
    judged = [f"{kept:,} {name}" for _, kept, name in (users, items) if kept is not None]
    told = [f"{' and '.join(left_out)} unseen in training"] if left_out else []
    return "; ".join([*told, *([f"{' and '.join(judged)} unseen, and judged"] if judged else [])])


def _leaderboard(run: Run, others: list[str]) -> Table:
    """One line per contender; a narrow terminal gets a shorter bar."""
    figures = [figure for s in run.standings if (figure := s.figure(run.decide_by))]
    scale = max((figure.mean if figure.high is None else figure.high for figure in figures), default=1.0)
    baseline = "popularity" if run.spec.rank.baseline == "popular" else "mean value"
    line = next((s.figure(run.decide_by) for s in run.standings if s.contender == run.spec.baseline), None)
    names = ("", "contender", run.decide_by, f"95 %, ┊ {baseline}", *others, f"against {baseline}", "fit s")
    rows = table(*names, right=(run.decide_by, *others, "fit s"), whole=names)
    for place, standing in enumerate(run.standings, start=1):
        deciding = standing.figure(run.decide_by)
        rows.add_row(
            str(place),
            f"[bold]{standing.contender}[/] ★" if standing.contender == run.winner else standing.contender,
            f"{deciding.mean:.4f}" if deciding else "",
            _bar(deciding, line.mean if line else None, scale, BAR if console().width >= WIDE else NARROW_BAR),
            *[_mean(standing, name) for name in others],
            _against(standing, is_per_user=_is_per_user(standing, run.decide_by)),
            f"{standing.fit_seconds:.2f}",
        )
    return rows


def _others(run: Run) -> tuple[list[str], bool]:
    """The other metrics at the deciding cut-off (those of the whole order have none), and whether they fit beside."""
    others = [each.label for each in run.spec.rank.beside()]
    width = max((len(s.contender) for s in run.standings), default=0)
    width += sum(max(len(name), FIGURE) + 3 for name in others)
    return others, width <= console().width - BESIDE


def _figures(run: Run, others: list[str]) -> list[Table]:
    """A line per metric and a column per contender, in as many tables as the width of the terminal asks for."""
    room = console().width - max(len(name) for name in others) - 3
    taken = [max(len(standing.contender), FIGURE) + 3 for standing in run.standings]
    per_table = max(1, room // max(taken))
    tables: list[Table] = []
    for first in range(0, len(run.standings), per_table):
        some = run.standings[first : first + per_table]
        labels = [standing.contender for standing in some]
        rows = table("metric", *labels, right=tuple(labels), whole=("metric", *labels))
        for name in others:
            rows.add_row(name, *[_mean(standing, name) for standing in some])
        tables.append(rows)
    return tables


def show_segments(name: str, segments: Segments) -> None:
    """A line per segment, a column per contender."""
    out = console()
    out.print(f"[bold]{name}[/], {segments.metric} on the {segments.part} part by {segments.by}")
    labels = list(dict.fromkeys(figure.contender for each in segments.segments for figure in each.figures))
    names = (segments.by.rpartition(":")[2], "users", "relevant", *labels)
    rows = table(*names, right=names[1:], whole=names)
    longest = max((len(each.name) for each in segments.segments), default=0)
    sure = longest + 24 + sum(max(len(label), 13) + 3 for label in labels) <= out.width
    for each in segments.segments:
        by_contender = {figure.contender: figure for figure in each.figures}
        best = (min if segments.less_is_better else max)((figure.mean for figure in each.figures), default=0.0)
        cells = [_segment_cell(by_contender.get(label), best, sure=sure) for label in labels]
        rows.add_row(each.name, f"{each.users:,}", f"{each.pairs:,}", *cells)
    out.print(rows)
    if segments.of == "items":
        out.print("[dim]only the relevant items of a segment count in it; users without one are left out[/]")
    if segments.left_out:
        out.print(f"[dim]{segments.left_out}[/]")


def _segment_cell(figure: SegmentFigure | None, best: float, *, sure: bool) -> str:
    """The mean, and half the width of its interval where there is room."""
    if figure is None:
        return ""
    half = ""
    if sure and figure.high is not None and figure.low is not None:
        half = f" ±{(figure.high - figure.low) / 2:.3f}"
    text = f"{figure.mean:.4f}{half}"
    return f"[bold]{text}[/]" if figure.mean == best else text


def show_comparison(name: str, comparison: ContestComparison) -> None:
    """A line per pair, the clearest difference first."""
    out = console()
    out.print(f"[bold]{name}[/], {comparison.metric} on the test part, user by user")
    names = ("contenders", "difference", "95 %", "p", "p, corrected", "verdict")
    rows = table(*names, right=("difference", "p", "p, corrected"), whole=("95 %", "verdict"))
    for pair in sorted(comparison.pairs, key=lambda each: (each.p_holm, -abs(each.difference))):
        # the better first, or of two that cannot be told apart the one with more
        turn = pair.verdict == "worse" or (pair.verdict == "cannot tell" and pair.difference < 0)
        first, second = (pair.second, pair.first) if turn else (pair.first, pair.second)
        gap = (-pair.difference, -pair.high, -pair.low) if turn else (pair.difference, pair.low, pair.high)
        rows.add_row(
            f"{first} - {second}",
            f"{gap[0]:+.4f}",
            f"{gap[1]:+.4f} to {gap[2]:+.4f}",
            _chance(pair.p),
            _chance(pair.p_holm),
            VERDICTS["cannot tell" if pair.verdict == "cannot tell" else "better"],
        )
    out.print(rows)
    show_summary(comparison)


def show_values(name: str, report: ValueReport) -> None:
    """What is predicted for each actual value, and the error by actual value and by how strict users are."""
    out = console()
    out.print(f"[bold]{name}[/], predicted values on the {report.part} part")
    tables = (
        ("mean predicted, by actual value", "by_actual", "predicted"),
        ("rmse, by actual value", "by_actual", "rmse"),
        ("rmse, by the user's own mean in training, from", "by_strictness", "rmse"),
    )
    for title, field, figure in tables:
        out.print(title)
        out.print(_binned(report, field, figure))


def _binned(report: ValueReport, field: str, figure: str) -> Table:
    bins = {each.contender: {row.at: row for row in getattr(each, field)} for each in report.contenders}
    names = ("from", "values", *bins)
    rows = table(*names, right=names, whole=names)
    for at, first in next(iter(bins.values())).items():
        cells = [
            f"{getattr(bins_by_start[at], figure):.3f}" if at in bins_by_start else ""
            for bins_by_start in bins.values()
        ]
        rows.add_row(f"{at:.4g}", f"{first.n:,}", *cells)
    return rows


def show_check(name: str, check: ContestCheck) -> None:
    """Mistakes by line, or what each contender will take."""
    from rich.markup import escape

    out = console()
    if check.problems:
        for each in check.problems:
            sentence = escape(f"{each.field}: {each.message}")
            out.print(f"[red]{name}:{each.line or 1}[/]: {sentence}", soft_wrap=True, highlight=False)
        out.print(f"{len(check.problems)} {'mistake' if len(check.problems) == 1 else 'mistakes'}")
        return
    rows = table("contender", "family", "fits", "about s", "range s", "about MB",
                 right=("fits", "about s", "range s", "about MB"))  # fmt: skip
    for line in check.contenders:
        span = f"{line.seconds_low:,.1f} to {line.seconds_high:,.1f}"
        rows.add_row(
            line.contender, line.family, str(line.fits), f"{line.seconds:,.1f}", span, f"{line.memory_mb:,.0f}"
        )
    out.print(rows)
    if check.pruning is not None:
        out.print(f"[yellow]{escape(check.pruning.text)}[/]", soft_wrap=True, highlight=False)
    span = f"{check.seconds_low:,.0f} to {check.seconds_high:,.0f} s"
    out.print(
        f"nothing wrong; on {check.data} about {check.seconds:,.0f} s ({span}) and {check.memory_mb:,.0f} MB in all"
    )
    out.print(f"[dim]the range holds four times out of five; from {check.based_on}[/]", soft_wrap=True)


def _chance(p: float) -> str:
    return "< 0.0001" if p < 0.0001 else f"{p:.4f}"


def show_summary(comparison: ContestComparison) -> None:
    """What parts add, and what can be told and what cannot."""
    out = console()
    show_ablations(comparison.ablations, comparison.metric)
    for line in comparison.summary:
        unsure = line.startswith(("Cannot tell", "Not shown", "Worse than"))
        out.print(f"[yellow]{line}[/]" if unsure else line, soft_wrap=True)


def _mean(standing: Standing, metric: str) -> str:
    """The figure with half the width of its interval; those that all lists have together have none."""
    figure = standing.figure(metric)
    if figure is None:
        return ""
    if figure.low is None or figure.high is None:
        return f"{figure.mean:.4f}"
    return f"{figure.mean:.4f} ±{(figure.high - figure.low) / 2:.4f}"


def _against(standing: Standing, *, is_per_user: bool) -> str:
    gap = standing.against_popular
    if gap is None or gap.verdict == "baseline":
        return "baseline"
    if not gap.difference and not gap.low and not gap.high:
        return "the same" if is_per_user else ""
    return f"{VERDICTS[gap.verdict]} ({gap.difference:+.4f})"


def _is_per_user(standing: Standing, metric: str) -> bool:
    """Whether users have figures of their own, so that contenders can be told apart."""
    figure = standing.figure(metric)
    return figure is not None and figure.low is not None


def _bar(figure: Figure | None, popular: float | None, highest: float, width: int) -> str:
    """The interval to scale from zero, the mean as a dot, popularity as a dotted line through all rows."""
    if figure is None:
        return ""
    scale = (width - 1) / highest if highest > 0 else 0.0
    cells = [" "] * width
    if figure.low is not None and figure.high is not None:
        for at in range(round(figure.low * scale), round(figure.high * scale) + 1):
            cells[at] = "─"
    if popular is not None:
        cells[round(popular * scale)] = "┊"
    cells[round(figure.mean * scale)] = "●"
    return "".join(cells)


def _verdict(run: Run) -> None:
    out = console()
    if run.winner is None:
        return
    winner = next(s for s in run.standings if s.contender == run.winner)
    out.print(
        f"★ best on {run.decide_by} of the {run.chosen_on} part: [bold]{winner.contender}[/], "
        f"registered as {winner.model}",
        soft_wrap=True,
    )
    if run.caution:
        out.print(f"[yellow]{run.caution}[/]", soft_wrap=True)
    if run.comparison:
        show_summary(run.comparison)
