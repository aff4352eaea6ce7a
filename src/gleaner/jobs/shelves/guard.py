"""Whether a refreshed model is good enough to be served: both judged by rows that neither was fitted on."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.rows import InteractionRows
from gleaner.core.evaluation import RankPlan, figures_of
from gleaner.core.fitted import Fitted
from gleaner.core.metrics.exposure import ContentVectors, Shown
from gleaner.core.metrics.statistics import paired_difference
from gleaner.core.models.base.protocol import Model
from gleaner.core.preparation.prepare import keep_rows
from gleaner.core.ranking.topn import Lists, top_n, top_n_of_new
from gleaner.core.splits.truth import Truth
from gleaner.jobs.datasets.divide import SplitStage, divide, preparation_of
from gleaner.jobs.shelves.prompted import Prompted, ShownTo, closed_up
from gleaner.wire.contests.contest import PrepareSpec, SplitSpec
from gleaner.wire.shelves.refreshes import GuardOutcome, GuardSpec, Judged

MOST_USERS = 5000
SEED = 1
Fit = Callable[[InteractionMatrix], Model]
Tell = Callable[[float, str], None]


@dataclass(frozen=True)
class Since:
    """Where the rows since a model are cut: those before `cut` are learned, those from it on judge."""

    cut: datetime
    learned: int
    held: int


def cut_of(rows: InteractionRows, prepare: PrepareSpec, newest: datetime | None, held_out: float) -> Since | None:
    """Where to cut the rows, as the preparation keeps them, that are newer than a moment; None of fewer than two."""
    if newest is None or not rows.has("time"):
        return None
    kept, _ = keep_rows(rows, preparation_of(prepare))
    times = kept.frame["time"].drop_nulls().dt.timestamp("us").to_numpy()
    fresh = np.sort(times[times > round(newest.timestamp() * 1e6)])
    if len(fresh) < 2:
        return None
    place = min(max(round(len(fresh) * (1 - held_out)), 1), len(fresh) - 1)
    held = int((fresh >= fresh[place]).sum())
    return Since(datetime.fromtimestamp(0, UTC) + timedelta(microseconds=int(fresh[place])), len(fresh) - held, held)


def judge(
    current: Fitted,
    rows: InteractionRows,
    prepare: PrepareSpec,
    since: Since | None,
    guard: GuardSpec,
    fit: Fit,
    tell: Tell,
    shown_to: ShownTo | None = None,
) -> GuardOutcome:
    """Fit on everything up to the cut, and compare on what came after.

    shown_to: what lists have shown to some users; such pairs then neither judge nor are candidates, or the current
    model would be judged by its own echo.
    """
    metric = f"{guard.metric}@{guard.at}"
    if since is None:
        few = f"fewer than two rows with a time are newer than those of {current.name}"
        said = f"{few}, and it takes one to learn from and one to judge by"
        return GuardOutcome(metric=metric, users=0, rows_learned=0, rows_held=0, passed=False, said=said)
    split = SplitSpec(by="time", test_from=since.cut, validation=0)
    stage = divide(rows, prepare, split, SEED, lambda done, text: tell(0.3 * done, text)).stages[-1]
    truth, prompted = _some_users(stage.truth), Prompted.nothing()
    before = len(truth.indices)
    if shown_to is not None:
        prompted = Prompted.of(truth, stage.train, shown_to)
        truth = prompted.less(truth)
    outcome = GuardOutcome(
        metric=metric,
        users=len(truth.user_rows),
        rows_learned=since.learned,
        rows_held=since.held,
        prompted=before - len(truth.indices),
        passed=False,
        said="",
    )
    if outcome.users < guard.least_users:
        what = "rows that no list prompted" if shown_to else "rows to judge by"
        outcome.said = f"{outcome.users} users have {what}, and the guard wants {guard.least_users}"
        return outcome
    tell(0.3, "fitting without the rows that judge")
    new = Fitted("new", fit(stage.train), stage.train)
    tell(0.8, "judging both")
    plan = RankPlan([guard.metric], [guard.at], SEED)
    long = min(guard.at + prompted.most, len(stage.train.items))
    lists = {
        "current": _lists_of_current(current, stage, truth, long),
        "new": top_n(new.model, truth.user_rows, long, new.ties, exclude=stage.train),
    }
    figures = {}
    for name, made in lists.items():
        items = prompted.out_of(made.items, truth.user_rows, guard.at)
        shown = Shown(items, truth.user_rows, stage.train, stage.train, ContentVectors())
        figures[name] = figures_of(shown, truth, plan)
    means = {name: each.means[metric] for name, each in figures.items()}
    gap = paired_difference(figures["new"].per_user[metric], figures["current"].per_user[metric], SEED)
    outcome.current = Judged(model=current.name, **vars(means["current"]))
    outcome.new = Judged(model="refreshed", **vars(means["new"]))
    outcome.difference = (gap.mean, gap.low or 0.0, gap.high or 0.0)
    outcome.passed, decided = _decided(guard, means["current"].mean, outcome.difference)
    outcome.said = (
        f"{metric} {means['new'].mean:.4f} beside {means['current'].mean:.4f} of {current.name} "
        f"({gap.mean:+.4f}, {gap.low:+.4f} to {gap.high:+.4f}) on {outcome.users:,} users"
        + (f", less {outcome.prompted:,} pairs that lists had shown; " if shown_to else "; ")
        + decided
    )
    return outcome


def _decided(guard: GuardSpec, current: float, difference: tuple[float, float, float]) -> tuple[bool, str]:
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
    if current.model.folds_in or not current.model.personal:
        found = top_n_of_new(current.model, shown, rows, n, current.ties)
        nothing = (np.diff(shown.indptr) == 0) if current.model.personal else np.zeros(len(rows), dtype=bool)
    else:
        known = current.train.users.rows(train.users.take(truth.user_rows))
        found = top_n(current.model, np.maximum(known, 0), n, current.ties)
        nothing = known < 0
    there = train.items.rows(current.train.items.ids.to_pylist())
    items = np.where(found.items >= 0, there[found.items], -1)
    items[nothing] = -1
    return Lists(closed_up(items), found.scores)
