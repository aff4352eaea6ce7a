"""Whether a refreshed model is good enough to be served: both judged by rows that neither was fitted on."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from typing import Literal

import numpy as np

from gleaner.core.contests.listening import ProgressStretch
from gleaner.core.contests.parts import SplitStage, divide
from gleaner.core.contests.shown_pairs import ShownPairs, ShownTo, closed_up
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.rows import InteractionRows
from gleaner.core.fitted import Fitted
from gleaner.core.metrics.catalogue import MetricReference
from gleaner.core.metrics.evaluation import RankPlan, figures_of
from gleaner.core.metrics.exposure import ContentVectors, ShownLists
from gleaner.core.metrics.statistics import Interval, paired_difference
from gleaner.core.models.base.capabilities import folding
from gleaner.core.models.base.protocol import Model
from gleaner.core.preparation.prepare import keep_rows
from gleaner.core.preparation.recipe import Preparation
from gleaner.core.ranking.topn import Lists, top_n, top_n_of_new
from gleaner.core.splits.split import Split
from gleaner.core.splits.truth import Truth

MOST_USERS = 5000
SEED = 1
DIVIDED, FITTED = 0.3, 0.8
"""Of the progress: once the rows are divided, and once the new model is fitted."""
Fit = Callable[[InteractionMatrix], Model]
Certainty = Literal["by_mean", "to_refuse", "to_publish"]


@dataclass(frozen=True)
class Guard:
    """What must hold before a new model is served in the place of the current one.

    worse_by: share of the current figure by which the new one may be below it. certainty: whether the means decide, or
    the interval of the difference, which must show such a loss to refuse, or rule it out to publish. least_users: with
    fewer to judge by nothing is published.
    """

    metric: MetricReference
    worse_by: float = 0.02
    certainty: Certainty = "by_mean"
    least_users: int = 50


@dataclass(frozen=True)
class RowsSince:
    """Where the rows since a model are cut: those before `cut` are learned, those from it on judge."""

    cut: datetime
    learned: int
    held_out: int


@dataclass(frozen=True)
class GuardVerdict:
    """What the guard saw. figures: of the current and the new model, by "current" and "new"; difference: of the new one
    less the current, over the same users. prompted: pairs left out, as a list had shown them.
    reason: why it passed or not, in words."""

    passed: bool
    reason: str
    users: int = 0
    learned: int = 0
    held_out: int = 0
    prompted: int = 0
    figures: dict[str, Interval] = field(default_factory=dict)
    difference: Interval | None = None


@dataclass(frozen=True, eq=False)
class GuardTask:
    """What is judged: the model that is served, and every row of now, by the preparation it was trained with.

    since: where the rows that it never saw are cut; None where there are too few. fit: a new model of a matrix.
    shown_to: what lists have shown to some users; such pairs then neither judge nor are candidates, or the current
    model would be judged by its own echo.
    """

    current: Fitted
    rows: InteractionRows
    preparation: Preparation
    since: RowsSince | None
    fit: Fit
    shown_to: ShownTo | None = None


def rows_since(
    rows: InteractionRows, preparation: Preparation, newest: datetime | None, held_out: float
) -> RowsSince | None:
    """Where to cut the rows, as the preparation keeps them, that are newer than a moment; None of fewer than two."""
    if newest is None or not rows.has("time"):
        return None
    kept, _ = keep_rows(rows, preparation)
    times = kept.frame["time"].drop_nulls().dt.timestamp("us").to_numpy()
    fresh = np.sort(times[times > round(newest.timestamp() * 1e6)])
    if len(fresh) < 2:
        return None
    place = min(max(round(len(fresh) * (1 - held_out)), 1), len(fresh) - 1)
    judging_rows = int((fresh >= fresh[place]).sum())
    cut = datetime.fromtimestamp(0, UTC) + timedelta(microseconds=int(fresh[place]))
    return RowsSince(cut, len(fresh) - judging_rows, judging_rows)


def judge(task: GuardTask, guard: Guard, stretch: ProgressStretch) -> GuardVerdict:
    """Fit on everything up to the cut, and compare on what came after."""
    since = task.since
    if since is None:
        few = f"fewer than two rows with a time are newer than those of {task.current.name}"
        return GuardVerdict(passed=False, reason=f"{few}, and it takes one to learn from and one to judge by")
    rule = Split(by="time", test_from=since.cut, validation=0, seed=SEED)
    dividing = stretch.part(0.0, DIVIDED)
    stage = divide(task.rows, task.preparation, rule, dividing.require_going).stages[-1]
    drawn, prompted = _some_users(stage.truth), ShownPairs.nothing()
    truth = drawn
    if task.shown_to is not None:
        prompted = ShownPairs.of(drawn, stage.train, task.shown_to)
        truth = prompted.less(drawn)
    seen = GuardVerdict(
        passed=False,
        reason="",
        users=len(truth.user_rows),
        learned=since.learned,
        held_out=since.held_out,
        prompted=len(drawn.indices) - len(truth.indices),
    )
    if seen.users < guard.least_users:
        what = "rows that no list prompted" if task.shown_to else "rows to judge by"
        sentence = f"{seen.users} users have {what}, and the guard wants {guard.least_users}"
        return replace(seen, reason=sentence)
    stretch.require_going(DIVIDED, "fitting without the rows that judge")
    new = Fitted("new", task.fit(stage.train), stage.train)
    stretch.require_going(FITTED, "judging both")
    return _compared(task, guard, stage, new, truth, prompted, seen)


def _compared(
    task: GuardTask,
    guard: Guard,
    stage: SplitStage,
    new: Fitted,
    truth: Truth,
    prompted: ShownPairs,
    seen: GuardVerdict,
) -> GuardVerdict:
    """Both models' lists for the same users, by the guard's metric."""
    metric, at = guard.metric.label, guard.metric.k or 1
    plan = RankPlan([guard.metric.name], [at], SEED)
    long = min(at + prompted.most, len(stage.train.items))
    lists = {
        "current": _lists_of_current(task.current, stage, truth, long),
        "new": top_n(new.model, truth.user_rows, long, new.ties, exclude=stage.train),
    }
    figures = {}
    for name, listed in lists.items():
        items = prompted.out_of(listed.items, truth.user_rows, at)
        shown = ShownLists(items, truth.user_rows, stage.train, stage.train, ContentVectors())
        figures[name] = figures_of(shown, truth, plan)
    means = {name: each.means[metric] for name, each in figures.items()}
    gap = paired_difference(figures["new"].per_user[metric], figures["current"].per_user[metric], SEED)
    passed, decided = decided_by(guard, means["current"].mean, (gap.mean, gap.low or 0.0, gap.high or 0.0))
    left_out = f", less {seen.prompted:,} pairs that lists had shown; " if task.shown_to else "; "
    sentence = (
        f"{metric} {means['new'].mean:.4f} beside {means['current'].mean:.4f} of {task.current.name} "
        f"({gap.mean:+.4f}, {gap.low:+.4f} to {gap.high:+.4f}) on {seen.users:,} users{left_out}{decided}"
    )
    return replace(seen, passed=passed, reason=sentence, figures=means, difference=gap)


def decided_by(guard: Guard, current: float, difference: tuple[float, float, float]) -> tuple[bool, str]:
    """Whether the new model passes, and by what. difference: of the means, new less current, with its interval."""
    mean, low, high = difference
    loss = guard.worse_by * current
    if guard.certainty == "by_mean":
        passed = mean >= -loss
        return passed, f"at least {current - loss:.4f} was wanted" if passed else (
            f"the guard wants at least {current - loss:.4f}"
        )
    what = f"a loss of more than {loss:.4f}" if loss else "a loss"
    if guard.certainty == "to_refuse":
        passed = high >= -loss
        return passed, f"{what} is {'not shown' if passed else 'shown'}"
    passed = low >= -loss
    return passed, f"{what} is {'ruled out' if passed else 'not ruled out'}"


def _some_users(truth: Truth) -> Truth:
    """At most so many users, drawn by chance."""
    n = len(truth.user_rows)
    if n <= MOST_USERS:
        return truth
    chosen = np.sort(np.random.Generator(np.random.PCG64(SEED)).permutation(n)[:MOST_USERS])
    counts = np.diff(truth.indptr)[chosen]
    places = np.concatenate([np.arange(truth.indptr[row], truth.indptr[row + 1]) for row in chosen])
    return Truth(
        truth.user_rows[chosen],
        np.concatenate([[0], np.cumsum(counts)]).astype(np.int64),
        truth.indices[places],
        truth.unseen_users,
        truth.unseen_items,
        truth.known_pairs,
        None if truth.gains is None else truth.gains[places],
        truth.not_relevant,
    )


def _lists_of_current(current: Fitted, stage: SplitStage, truth: Truth, n: int) -> Lists:
    """What the current model would list for these users with all they did up to the cut folded in, as it is served; in
    the items of the training part. Someone it can do nothing for has an empty list."""
    train = stage.train
    shown = train.onto(train.users.subset(truth.user_rows), current.train.items)
    rows = np.arange(len(truth.user_rows), dtype=np.int32)
    if folding(current.model) is not None or not current.model.personal:
        lists = top_n_of_new(current.model, shown, rows, n, current.ties)
        nothing = (np.diff(shown.indptr) == 0) if current.model.personal else np.zeros(len(rows), dtype=bool)
    else:
        known = current.train.users.rows(train.users.take(truth.user_rows))
        lists = top_n(current.model, np.maximum(known, 0), n, current.ties)
        nothing = known < 0
    there = train.items.rows(current.train.items.ids.to_pylist())
    items = np.where(lists.items >= 0, there[lists.items], -1)
    items[nothing] = -1
    return Lists(closed_up(items), lists.scores)
