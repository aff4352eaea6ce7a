"""A leaderboard in a few plain lines."""

from __future__ import annotations

from gleaner.wire.contests.runs import Run


def leaderboard_lines(run: Run) -> list[str]:
    """One line per contender: the deciding figure with its interval, and how it stands to popularity."""
    width = max(len(standing.contender) for standing in run.standings)
    lines = [f"{run.name}, {run.decide_by} on the test part (95 % interval)"]
    for place, standing in enumerate(run.standings, start=1):
        figure, gap = standing.figure(run.decide_by), standing.against_popular
        assert figure is not None
        assert gap is not None
        verdict = "baseline" if gap.verdict == "baseline" else f"{gap.verdict} than popularity ({gap.difference:+.4f})"
        verdict = "cannot tell from popularity" if gap.verdict == "cannot tell" else verdict
        mark = " *" if standing.contender == run.winner else ""
        lines.append(
            f"{place}. {standing.contender:<{width}}  {figure.mean:.4f} ({figure.low:.4f} to {figure.high:.4f})"
            f"  {verdict}, fitted in {standing.fit_seconds:.1f} s{mark}"
        )
    return [*lines, "* best on the validation part"]
