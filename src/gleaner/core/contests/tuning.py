"""Search a contender's parameters: each attempt is fitted on training and scored on validation, and kept at once."""

from __future__ import annotations

from dataclasses import dataclass
from math import isfinite
from typing import TYPE_CHECKING, Any

from gleaner.core.contests.contest import Contest
from gleaner.core.contests.listening import ProgressStretch
from gleaner.core.contests.plan import Contender, SearchPlan
from gleaner.core.contests.results import SearchResult, Stopped, TuningAttempt
from gleaner.core.errors import CancelledError, DataError, GleanerError
from gleaner.core.models.base.capabilities import PredictsValues
from gleaner.core.models.base.registry import build
from gleaner.core.models.base.watching import TrainingRound, Watch, stops_early
from gleaner.core.tuning.attempts import TunedTrial
from gleaner.core.tuning.space import Space, space_of

if TYPE_CHECKING:
    from gleaner.core.tuning.search import Search

LOOKS = 5
"""How often an attempt is compared with earlier ones while it iterates."""


class _HopelessError(Exception):
    """Ends an attempt that lies below the others."""


@dataclass(eq=False)
class ContenderSearch:
    """The search of one contender while it runs."""

    contest: Contest
    contender: Contender
    how: SearchPlan
    space: Space
    search: Search
    attempts: list[TuningAttempt]

    def best(self) -> TuningAttempt | None:
        """The best attempt so far."""
        done = [each for each in self.attempts if each.state == "done" and each.value is not None]
        return max(done, key=lambda each: self.contest.plan.sign * (each.value or 0.0), default=None)

    def trial(self, done: TuningAttempt) -> TunedTrial:
        """An attempt as the search knows it."""
        name = self.contest.plan.decide_by.label
        curve = {each.iteration: each.metrics[name] for each in done.rounds if name in each.metrics}
        return TunedTrial(done.chosen, done.state, done.value, curve)

    def ended_by(self) -> Stopped | None:
        """Why no further attempt begins; None while there is time."""
        spent = sum(each.seconds for each in self.attempts)
        return "minutes" if self.how.minutes is not None and spent >= 60 * self.how.minutes and self.attempts else None


def tune(contest: Contest, contender: Contender, stretch: ProgressStretch) -> SearchResult:
    """The best parameters on validation, and how they were found. Attempts of before a crash are not repeated.

    Raises DataError when every attempt failed.
    """
    # a second to load, which nobody pays who does not search
    from gleaner.core.tuning.search import Search

    plan, how = contest.plan, contender.search or SearchPlan()
    space = space_of(contender.family, contender.params)
    search = Search(space, how.method, how.attempts, plan.seed, plan.sign)
    run = ContenderSearch(contest, contender, how, space, search, contest.listener.attempts(contender.label))
    for each in run.attempts:
        search.add(run.trial(each))
    while (stopped_by := run.ended_by()) is None:
        chosen = search.propose()
        if chosen is None:
            stopped_by = "attempts" if len(run.attempts) >= how.attempts else "every setting was tried"
            break
        low = len(run.attempts) / how.attempts
        done = _attempt(run, chosen, stretch.part(low, low + 1 / how.attempts))
        search.report_progress(run.trial(done))
        run.attempts.append(done)
        contest.listener.keep_attempt(contender.label, done)
    best = run.best()
    if best is None:
        raise DataError(f"{contender.label}: every attempt failed; the last one: {run.attempts[-1].message}")
    params = space.whole(best.chosen) | _iterations_of(contender.family, space.whole(best.chosen), run, best)
    return SearchResult(params, how.method, best.number, stopped_by, search.effects())


def _iterations_of(family: str, params: dict[str, Any], run: ContenderSearch, best: TuningAttempt) -> dict[str, int]:
    """The iterations that the best attempt found best, where they are found by judging."""
    if not stops_early(build(family, params)):
        return {}
    curve = run.trial(best).curve
    sign = run.contest.plan.sign
    return {"iterations": max(curve, key=lambda iteration: (sign * curve[iteration], -iteration))} if curve else {}


def _attempt(run: ContenderSearch, chosen: dict[str, Any], stretch: ProgressStretch) -> TuningAttempt:
    """Fit and score one setting."""
    contest, label = run.contest, run.contender.label
    metric, clock = contest.plan.decide_by.label, contest.listener.clock
    begun = clock()
    model = build(run.contender.family, run.space.whole(chosen))
    watch = _watch(run, model, stretch)
    state, figures, text = "done", dict[str, float](), None
    try:
        train, watch.lent = contest.tuned_on.own_of(label).train, contest.lent
        watch.judged_later = contest.parts.judged_later
        model.fit(train, features=contest.tables.for_model(model, train), watch=watch)
        figures = contest.judge(contest.tuning_place, label, contest.plan.whole)(model)
    except _HopelessError:
        last = watch.rounds[-1]
        state, figures = "pruned", dict(last.metrics)
        text = f"below the median of earlier attempts at iteration {last.iteration}"
    except CancelledError:
        raise
    except (GleanerError, ArithmeticError) as error:
        state, text = "failed", str(error)
    value = figures.get(metric)
    if state == "done" and (value is None or not isfinite(value)):
        state, text, value = "failed", f"it has no {metric}", None
    losses = watch.rounds[-1].losses if watch.rounds else {}
    return TuningAttempt(
        number=len(run.attempts) + 1,
        chosen=chosen,
        state=state,  # type: ignore[arg-type]
        value=value,
        figures={name: figure for name, figure in figures.items() if isfinite(figure)},
        losses={name: loss for name, loss in losses.items() if isfinite(loss)},
        rounds=list(watch.rounds),
        seconds=clock() - begun,
        message=text,
    )


def _watch(run: ContenderSearch, model: Any, stretch: ProgressStretch) -> Watch:
    """Reports progress beside the best so far, and ends an attempt that lies below the others."""
    contest, label, metric = run.contest, run.contender.label, run.contest.plan.decide_by.label
    best = run.best()
    so_far = f", best so far {metric} {best.value:.4f}" if best else ""
    message = f"{label}: attempt {len(run.attempts) + 1} of {run.how.attempts}{so_far}"
    looked: list[int] = []

    def progress(done: float, iteration: int) -> bool:
        return stretch.report_progress(done, message)

    def end_round(done: TrainingRound) -> None:
        if not run.how.prune or metric not in done.metrics:
            return
        looked.append(done.iteration)
        # the first look is too early to judge by
        if run.search.hopeless(done.iteration, done.metrics[metric]) and len(looked) > 1:
            raise _HopelessError

    iterations = getattr(model, "iterations", 0)
    finds_end = stops_early(model)
    judged = finds_end or (run.how.prune and iterations >= 2)
    return Watch(
        held_out=contest.tuned_on.held_out_cells(values=isinstance(model, PredictsValues)),
        progress=progress,
        judge=contest.judge(contest.tuning_place, label, contest.plan.deciding) if judged else None,
        decide_by=metric,
        lower_is_better=contest.plan.sign < 0,
        every=1 if finds_end else max(1, iterations // LOOKS),
        end_round=end_round,
        clock=contest.listener.clock,
    )
