"""What paired comparisons come to, in sentences a person can act on."""

from __future__ import annotations

from gleaner.core.metrics.statistics import Difference


def oriented(differences: list[Difference], first: str, second: str) -> Difference:
    """The difference first - second, whichever way round it was computed."""
    for each in differences:
        if (each.first, each.second) == (first, second):
            return each
        if (each.first, each.second) == (second, first):
            verdict = {"better": "worse", "worse": "better", "cannot tell": "cannot tell"}[each.verdict]
            turned = (-each.mean, -each.high, -each.low, each.p, each.p_holm, each.users, verdict)
            return Difference(first, second, *turned)  # type: ignore[arg-type]
    raise KeyError((first, second))


def sentences(
    means: dict[str, float], differences: list[Difference], metric: str, leader: str, baseline: str
) -> list[str]:
    """Return how the leader compares with each other contender, and who is worse than the baseline or cannot be told
    from it.

    means: the figure of every contender. The baseline is compared even if it leads.
    """
    others = sorted((name for name in means if name != leader), key=lambda name: -abs(means[name]))
    lines: list[str] = []
    beaten = [name for name in others if oriented(differences, leader, name).verdict == "better"]
    better = [name for name in others if oriented(differences, leader, name).verdict == "worse"]
    level = [name for name in others if name not in beaten and name not in better]
    if beaten:
        lines.append(f"{leader} is better than {_joined(beaten)} on {metric}.")
    if better:
        lines.append(f"{leader} is worse than {_joined(better)} on {metric}.")
    for name in level:
        gap = oriented(differences, leader, name)
        lines.append(
            f"Cannot tell {leader} from {name} at this size: {gap.mean:+.4f} ({gap.low:+.4f} to {gap.high:+.4f}), "
            f"{gap.users:,} users{_but_alone(gap, len(differences))}."
        )
    rivals = [name for name in means if name != baseline] if baseline in means else []
    verdicts = {name: oriented(differences, name, baseline).verdict for name in rivals}
    worse = [name for name, verdict in verdicts.items() if verdict == "worse"]
    undecided = [name for name, verdict in verdicts.items() if verdict == "cannot tell"]
    if worse:
        lines.append(f"Worse than {baseline}: {_joined(worse)}.")
    if undecided:
        lines.append(f"Not shown to beat {baseline}: {_joined(undecided)}.")
    return lines


def _but_alone(gap: Difference, pairs: int) -> str:
    """Why an interval that leaves out 0 does not decide."""
    if gap.low <= 0 <= gap.high:
        return ""
    return f"; clear by itself, but not as one of {pairs} pairs compared (p {gap.p_holm:.2f} after Holm)"


def _joined(names: list[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
