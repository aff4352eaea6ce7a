"""Search a contender's parameters: each attempt is fitted on training and scored on validation, and kept at once."""

from __future__ import annotations

import time
from math import isfinite

from gleaner.core.errors import CancelledError, DataError, GleanerError
from gleaner.core.evaluation import evaluate
from gleaner.core.metrics.values import predictions
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.base.registry import build
from gleaner.core.models.base.values import ValueModel
from gleaner.core.models.base.watching import Judge, TrainingRound, Watch
from gleaner.core.tuning import search
from gleaner.core.tuning.space import Space, space_of
from gleaner.jobs.contests.state import Contest
from gleaner.jobs.datasets.divide import SplitStage
from gleaner.jobs.models.following import as_round
from gleaner.jobs.worker.context import ProgressPart
from gleaner.store import contests, jobs
from gleaner.wire.contests.contest import ContenderSpec
from gleaner.wire.contests.rank import VALUE_METRICS
from gleaner.wire.contests.tuning import Attempt, TuningResult

LOOKS = 5
"""How often an attempt is compared with earlier ones while it iterates."""


class _HopelessError(Exception):
    """Ends an attempt that lies below the others."""


def tune(contest: Contest, contender: ContenderSpec, part: ProgressPart) -> tuple[dict[str, object], TuningResult]:
    """The best parameters on validation, and how they were found. Attempts of before a crash are not repeated.

    Raises DataError when every attempt failed.
    """
    how = contest.spec.tune_of(contender)
    space = space_of(contender.family, contender.params)
    seeker = search.Search(space, how.search, how.attempts, contest.spec.seed, contest.sign)
    with contest.context.engine.begin() as connection:
        made = contests.attempts_of(connection, contest.plan.id, contender.label)
    for each in made:
        seeker.add(_plain(contest, each))
    spent = sum(each.seconds for each in made)
    stopped_by = "attempts"
    while True:
        if how.minutes is not None and spent >= 60 * how.minutes and made:
            stopped_by = "minutes"
            break
        chosen = seeker.propose()
        if chosen is None:
            stopped_by = "attempts" if len(made) >= how.attempts else "every setting was tried"
            break
        low = part.start + (part.stop - part.start) * len(made) / how.attempts
        stretch = part.context.part(low, low + (part.stop - part.start) / how.attempts, "")
        done = _attempt(contest, contender, space, chosen, len(made) + 1, seeker if how.prune else None, stretch, made)
        seeker.tell(_plain(contest, done))
        made.append(done)
        spent += done.seconds
        with contest.context.engine.begin() as connection:
            jobs.require_current(connection, contest.context.claim)
            contests.add_attempt(connection, contest.plan.id, contender.label, done)
    best = _best(contest, made)
    if best is None:
        raise DataError(f"{contender.label}: every attempt failed; the last one: {made[-1].message}")
    values = {"search": how.search, "chosen": best.number, "stopped_by": stopped_by}
    return space.whole(best.chosen), TuningResult(**values, importance=seeker.importance())


def _best(contest: Contest, made: list[Attempt]) -> Attempt | None:
    done = [each for each in made if each.state == "done" and each.value is not None]
    return max(done, key=lambda each: contest.sign * (each.value or 0.0), default=None)


def _plain(contest: Contest, done: Attempt) -> search.TunedTrial:
    """An attempt as the search knows it."""
    name = contest.spec.rank.decide_by
    curve = {each.iteration: each.metrics[name] for each in done.rounds if name in each.metrics}
    return search.TunedTrial(done.chosen, done.state, done.value, curve)


def _attempt(
    contest: Contest,
    contender: ContenderSpec,
    space: Space,
    chosen: dict[str, object],
    number: int,
    pruner: search.Search | None,
    part: ProgressPart,
    made: list[Attempt],
) -> Attempt:
    """Fit and score one setting."""
    place = contest.validation
    assert place is not None
    stage, metric = contest.stages[place], contest.spec.rank.decide_by
    of = contest.spec.tune_of(contender).attempts
    best = _best(contest, made)
    so_far = f", best so far {metric} {best.value:.4f}" if best else ""
    message = f"{contender.label}: attempt {number} of {of}{so_far}"

    def progress(done: float, iteration: int) -> bool:
        return part.context.tell(part.start + (part.stop - part.start) * done, message)

    looked: list[int] = []

    def heard(done: TrainingRound) -> None:
        if pruner is None or metric not in done.metrics:
            return
        looked.append(done.iteration)
        # the first look is too early to judge by
        if pruner.hopeless(done.iteration, done.metrics[metric]) and len(looked) > 1:
            raise _HopelessError

    begun = time.perf_counter()
    model = build(contender.family, space.whole(chosen))
    iterations = getattr(model, "iterations", 0)
    watch = Watch(
        held=stage.held_cells(values=model.predicts_values),
        progress=progress,
        judge=deciding_judge(contest, contender.label, stage, place) if pruner and iterations >= 2 else None,
        decide_by=metric,
        lower_is_better=contest.sign < 0,
        every=max(1, iterations // LOOKS),
        heard=heard,
        clock=time.perf_counter,
    )
    state, figures, text = "done", dict[str, float](), None
    try:
        train = stage.own_of(contender.label).train
        model.fit(train, features=contest.tables.for_model(model, train), watch=watch)
        figures = _figures(contest, contender.label, model, stage, place)
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
    return Attempt(
        number=number,
        chosen=chosen,
        state=state,
        value=value,
        figures={name: figure for name, figure in figures.items() if isfinite(figure)},
        training_loss=_finite(losses.get("training")),
        validation_loss=_finite(losses.get("validation")),
        rounds=[as_round(each) for each in watch.rounds],
        seconds=time.perf_counter() - begun,
        message=text,
    )


def _finite(value: float | None) -> float | None:
    return value if value is not None and isfinite(value) else None


def _figures(contest: Contest, label: str, model: Model, stage: SplitStage, place: int) -> dict[str, float]:
    """Every metric of the contest on validation, without intervals."""
    found = evaluate(
        model, stage.train, stage.truth, contest.rank_plan(), contest.ties[place],
        shown=stage.shown, folded=stage.own_of(label).shown, content=contest.contents[place], sure=False,
    )  # fmt: skip
    figures = {name: figure.mean for name, figure in found.means.items()}
    held = stage.held_cells(values=True) if set(VALUE_METRICS) & set(contest.spec.rank.metrics) else None
    if held is not None and isinstance(model, ValueModel):
        figures |= predictions(model, held).errors()
    return {name: figures[name] for name in contest.spec.rank.names() if name in figures}


def deciding_judge(contest: Contest, label: str, stage: SplitStage, place: int) -> Judge:
    """The deciding metric of a model as it stands, on a stage."""
    name = contest.spec.rank.decide_by

    def judge(model: Model) -> dict[str, float]:
        if name in VALUE_METRICS:
            held = stage.held_cells(values=True)
            assert held is not None
            assert isinstance(model, ValueModel)
            return {name: predictions(model, held).errors()[name]}
        found = evaluate(
            model, stage.train, stage.truth, contest.deciding_plan(), contest.ties[place],
            shown=stage.shown, folded=stage.own_of(label).shown, content=contest.contents[place], sure=False,
        )  # fmt: skip
        return {name: found.means[name].mean}

    return judge
