"""A contest's leaderboard in the terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from gleaner.cli.common import console, table

if TYPE_CHECKING:
    from gleaner.wire.contests import Run, Standing

BAR = 28
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
        line = f"{part.part}: {part.rows:,} rows, {part.users:,} users, {part.items:,} items"
        if part.users_counted is not None:
            line += (
                f"; scored on {part.users_counted:,} users with {part.pairs_counted:,} new items"
                f" ({part.unseen_users:,} users and {part.unseen_items:,} items unseen in training)"
            )
        out.print(f"[dim]{line}[/]", soft_wrap=True)
    for step in run.preparation:
        out.print(f"[dim]{step.name}: {step.rows_in:,} -> {step.rows_out:,} rows; {step.note}[/]", soft_wrap=True)
    for name in ("candidates", "users", "interval"):
        if name in run.definitions:
            out.print(f"[dim]{name}: {run.definitions[name]}[/]", soft_wrap=True)
    _verdict(run)


def _leaderboard(run: Run) -> object:
    k = run.decide_by.partition("@")[2]
    others = [f"{name}@{k}" for name in run.spec.rank.metrics if f"{name}@{k}" != run.decide_by]
    figures = (run.decide_by, *others, "fit s", "MB")
    rows = table(
        "",
        "contender",
        run.decide_by,
        "95 % interval, ┊ popularity",
        *others,
        "beats popularity",
        "fit s",
        "MB",
        right=figures,
    )
    best = max((s.figure(run.decide_by).high for s in run.standings if s.figure(run.decide_by)), default=1.0)  # type: ignore[union-attr]
    line = next((s.figure(run.decide_by) for s in run.standings if s.family == "popular"), None)
    for place, standing in enumerate(run.standings, start=1):
        deciding = standing.figure(run.decide_by)
        assert deciding is not None
        rows.add_row(
            str(place),
            f"[bold]{standing.contender}[/] ★" if standing.contender == run.winner else standing.contender,
            f"{deciding.mean:.4f}",
            _bar(deciding.low, deciding.mean, deciding.high, line.mean if line else None, best),
            *[_mean(standing, name) for name in others],
            _against(standing),
            f"{standing.fit_seconds:.2f}",
            f"{standing.peak_memory_mb:.0f}",
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


def _bar(low: float, mean: float, high: float, popular: float | None, best: float) -> str:
    """The interval drawn to scale from zero, the mean as a dot, popularity as a dotted line through all rows."""
    scale = (BAR - 1) / best if best > 0 else 0.0
    cells = [" "] * BAR
    for at in range(round(low * scale), round(high * scale) + 1):
        cells[at] = "─"
    if popular is not None:
        cells[round(popular * scale)] = "┊"
    cells[round(mean * scale)] = "●"
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
