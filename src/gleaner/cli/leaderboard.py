"""A contest's leaderboard in the terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from gleaner.cli.common import console, table

if TYPE_CHECKING:
    from rich.table import Table

    from gleaner.wire.contests import Figure, Run, Standing

BAR, NARROW_BAR = 20, 18
WIDE = 118
VERDICTS = {
    "better": "[green]better[/]",
    "worse": "[red]worse[/]",
    "cannot tell": "[yellow]cannot tell[/]",
    "baseline": "baseline",
}


def show_run(run: Run) -> None:
    """Leaderboard, what it rests on, and what its figures mean."""
    out = console()
    out.print(f"[bold]{run.name}[/] on {run.data}, decided by {run.decide_by} ({run.state})")
    if run.standings:
        out.print(_leaderboard(run))
    for part in run.parts:
        line = f"{part.label}: {part.rows:,} rows, {part.users:,} users, {part.items:,} items"
        if part.users_counted is not None:
            line += (
                f"; scored on {part.users_counted:,} users with {part.pairs_counted:,} new items"
                f" ({part.unseen_users:,} users and {part.unseen_items:,} items unseen in training)"
            )
        out.print(f"[dim]{line}[/]", soft_wrap=True)
        if part.leak and part.leak.leaks:
            out.print(f"[yellow]leak, {part.label}: {part.leak.verdict}[/]", soft_wrap=True)
    for step in run.preparation:
        out.print(f"[dim]{step.name}: {step.rows_in:,} -> {step.rows_out:,} rows; {step.note}[/]", soft_wrap=True)
    for name in ("candidates", "users", "interval"):
        if name in run.definitions:
            out.print(f"[dim]{name}: {run.definitions[name]}[/]", soft_wrap=True)
    _verdict(run)


def _leaderboard(run: Run) -> Table:
    """One line per contender; a narrow terminal gets a shorter bar and the deciding metric only."""
    width = console().width
    k = run.decide_by.partition("@")[2]
    others = [f"{name}@{k}" for name in run.spec.rank.metrics if f"{name}@{k}" != run.decide_by]
    if width < WIDE:
        others = []
    scale = max((figure.high for s in run.standings if (figure := s.figure(run.decide_by))), default=1.0)
    line = next((s.figure(run.decide_by) for s in run.standings if s.family == "popular"), None)
    names = ("", "contender", run.decide_by, "95 %, ┊ popularity", *others, "against popularity", "fit s")
    rows = table(*names, right=(run.decide_by, *others, "fit s"), whole=names)
    for place, standing in enumerate(run.standings, start=1):
        deciding = standing.figure(run.decide_by)
        assert deciding is not None
        rows.add_row(
            str(place),
            f"[bold]{standing.contender}[/] ★" if standing.contender == run.winner else standing.contender,
            f"{deciding.mean:.4f}",
            _bar(deciding, line.mean if line else None, scale, BAR if width >= WIDE else NARROW_BAR),
            *[_mean(standing, name) for name in others],
            _against(standing),
            f"{standing.fit_seconds:.2f}",
        )
    return rows


def _mean(standing: Standing, metric: str) -> str:
    figure = standing.figure(metric)
    return f"{figure.mean:.4f}" if figure else ""


def _against(standing: Standing) -> str:
    gap = standing.against_popular
    if gap is None or gap.verdict == "baseline":
        return "baseline"
    return f"{VERDICTS[gap.verdict]} ({gap.difference:+.4f})"


def _bar(figure: Figure, popular: float | None, highest: float, width: int) -> str:
    """The interval to scale from zero, the mean as a dot, popularity as a dotted line through all rows."""
    scale = (width - 1) / highest if highest > 0 else 0.0
    cells = [" "] * width
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
    part = "validation" if winner.figure(run.decide_by, "validation") else "test"
    out.print(
        f"★ best on {run.decide_by} of the {part} part: [bold]{winner.contender}[/], registered as {winner.model}"
    )
    weak = [
        s.contender
        for s in run.standings
        if s.against_popular and s.against_popular.verdict in ("worse", "cannot tell")
    ]
    if weak:
        out.print(f"[yellow]not shown to beat popularity: {', '.join(weak)}[/]")
