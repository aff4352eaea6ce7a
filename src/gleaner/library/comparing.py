"""Contenders compared on the same parts, by the engine that runs contests."""

from __future__ import annotations

import sys
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import polars as pl

from gleaner.core.contests.comparison import PairedComparison
from gleaner.core.contests.contest import Contest
from gleaner.core.contests.engine import run_contest
from gleaner.core.contests.listening import QuietListener
from gleaner.core.contests.plan import Contender, ContestPlan
from gleaner.core.contests.results import ContenderResult, TuningAttempt
from gleaner.core.contests.side_tables import SideTables, TableFrames
from gleaner.core.data.tables.text_encoders import TextEncoders
from gleaner.core.errors import InputError, ParameterError
from gleaner.core.fitted import Fitted
from gleaner.core.metrics.catalogue import MetricReference
from gleaner.core.metrics.statistics import Interval
from gleaner.core.metrics.verdicts import oriented
from gleaner.core.models.base.likelihood import Calibration
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.base.watching import TrainingRound
from gleaner.core.notebook import html_lines, html_table
from gleaner.library.fitting import print_warnings, shown
from gleaner.library.frames import table_of
from gleaner.library.parts import SplitParts
from gleaner.library.plots import plot_attempts, plot_comparison, plot_rounds
from gleaner.library.tuned import TunedContender

if TYPE_CHECKING:
    from matplotlib.figure import Figure


Contestant = Model | str | TunedContender


@dataclass(eq=False)
class RememberingListener(QuietListener):
    """Remembers attempts, and the rounds of fits on the validation part."""

    tried: dict[str, list[TuningAttempt]] = field(default_factory=dict)
    rounds: list[tuple[str, TrainingRound]] = field(default_factory=list)

    def keep_attempt(self, label: str, done: TuningAttempt) -> None:
        """Remember it."""
        self.tried.setdefault(label, []).append(done)

    def end_round(self, label: str, goal: str, done: TrainingRound) -> None:
        """Remember those of the validation part."""
        if goal == "validation":
            self.rounds.append((label, done))


@dataclass(frozen=True, eq=False)
class ContestResult:
    """Contenders on the test part. best: the model that was best on the validation part. table: a row per contender.

    pairs: every paired difference with its interval and corrected p. conclusions: what can be told from them, in
    sentences. attempts: every setting of tuned contenders, `chosen` and its `value` on validation. rounds: the metric
    and the losses on validation by iteration, of contenders that iterate, as far as `every` asked for them.
    """

    table: pl.DataFrame
    models: dict[str, Fitted]
    best: Fitted
    metric: str
    pairs: pl.DataFrame
    conclusions: list[str]
    baseline: str
    attempts: pl.DataFrame
    rounds: pl.DataFrame

    def __repr__(self) -> str:
        with pl.Config(tbl_rows=50, tbl_hide_dataframe_shape=True, tbl_hide_column_data_types=True, float_precision=4):
            sentences = "".join(f"\n{line}" for line in self.conclusions)
            of = f"{self.metric} on the test part, 95 % interval; best on validation: {self.best.name}"
            return f"{of}\n{self.table}{sentences}"

    def _repr_html_(self) -> str:
        title = f"{self.metric} on the test part, 95 % interval; best on validation: {self.best.name}"
        return html_lines([title]) + html_table(self.table) + html_lines(self.conclusions)

    def plot(self) -> Figure:
        """Each contender's figure with its interval."""
        return plot_comparison(self.table, self.metric, self.baseline)

    def plot_tuning(self, contender: str) -> Figure:
        """What was tried for one tuned contender. Raises ParameterError where nothing was."""
        if contender not in self.attempts["contender"]:
            there = ", ".join(self.attempts["contender"].unique(maintain_order=True)) or "none"
            raise ParameterError(f"{contender!r} was not tuned; these were: {there}", where="contender")
        return plot_attempts(self.attempts, contender, self.metric)

    def plot_curves(self, of: str | None = None) -> Figure:
        """The metric by iteration, or another column of `rounds`: `training` or `validation` loss."""
        return plot_rounds(self.rounds, of or self.metric)


def compare(
    parts: SplitParts,
    contenders: Sequence[Contestant] | Mapping[str, Contestant],
    *,
    metric: str = "ndcg@10",
    every: int | None = None,
    items: Any = None,
    users: Any = None,
    text_encoders: str | Path | None = None,
    progress: bool | None = None,
) -> ContestResult:
    """Fit every contender on training for the validation figure, and on training and validation for the test figure.

    Contenders are families, models, or what `tuned` makes. The baseline is always among them: popularity, or the mean
    value where the metric is one of predicted values. The table says how each stands against it: the paired difference,
    and better, worse or cannot tell, corrected for all pairs compared. The test part chooses nothing.
    every: judge each so many iterations on validation, for learning curves. items, users, text_encoders: frames for
    models that take features, and a folder of model folders, as in `features`.
    """
    reference = MetricReference.parse(metric)
    if not reference.metric.per_user or reference.sign == 0:
        raise ParameterError(f"{metric} cannot decide: it has no figure per user, or no better way", where="metric")
    named: dict[str, Contestant] = {reference.metric.baseline: reference.metric.baseline} | _named(contenders)
    plan = ContestPlan(
        [_contender(*each) for each in named.items()],
        [reference.name],
        [reference.k or 10],
        reference,
        parts.seed,
        every=every,
    )
    listener = RememberingListener(_show if shown(progress) else None, time.perf_counter)
    encoders = TextEncoders(None if text_encoders is None else Path(text_encoders))
    frames = TableFrames(table_of(items, "items"), table_of(users, "users"))
    outcome = run_contest(Contest.of(plan, parts.parts, SideTables(lambda: frames, encoders), listener))
    results = {each.contender.label: each for each in listener.results}
    for label, result in results.items():
        print_warnings(label, result.watch)
    assert outcome.comparison is not None
    models = {label: _fitted(results[label]) for label in named}
    table = pl.DataFrame([_row(results[label], reference, plan.baseline, outcome.comparison) for label in named])
    table = table.sort("test", descending=reference.sign > 0)
    pairs = pl.DataFrame([vars(pair) for pair in outcome.comparison.pairs])
    return ContestResult(
        table,
        models,
        models[outcome.winner],
        metric,
        pairs,
        outcome.comparison.sentences,
        plan.baseline,
        _attempts(listener, results),
        _rounds(listener, reference.label),
    )


def _attempts(listener: RememberingListener, results: dict[str, ContenderResult]) -> pl.DataFrame:
    """A row for every setting that was tried."""
    rows = [
        {
            "contender": label,
            "attempt": each.number,
            "chosen": each.chosen,
            "value": each.value,
            "state": each.state,
            "seconds": each.seconds,
            "best": (search := results[label].search) is not None and search.chosen == each.number,
        }
        for label, attempts in listener.tried.items()
        for each in attempts
    ]
    kinds = {"contender": pl.String, "attempt": pl.Int64, "chosen": pl.Object, "value": pl.Float64, "state": pl.String,
             "seconds": pl.Float64, "best": pl.Boolean}  # fmt: skip
    return pl.DataFrame({name: [row[name] for row in rows] for name in kinds}, schema=kinds)


def _rounds(listener: RememberingListener, metric: str) -> pl.DataFrame:
    """A row for every iteration of the fits that were judged on validation."""
    rows = [
        {
            "contender": label,
            "iteration": each.iteration,
            metric: each.metrics.get(metric),
            "training": each.losses.get("training"),
            "validation": each.losses.get("validation"),
            "seconds": each.seconds,
        }
        for label, each in listener.rounds
    ]
    kinds = {"contender": pl.String, "iteration": pl.Int64} | dict.fromkeys(
        (metric, "training", "validation", "seconds"), pl.Float64
    )
    return pl.DataFrame(rows, schema=kinds)


def _fitted(result: ContenderResult) -> Fitted:
    """The model that is kept, with what makes chances of its log-odds where it has any."""
    chances = result.likelihood
    calibration = None if chances is None else Calibration(chances.slope, chances.intercept)
    return Fitted(result.contender.label, result.model, result.train, calibration)


def _row(
    result: ContenderResult, metric: MetricReference, baseline: str, comparison: PairedComparison
) -> dict[str, Any]:
    """A contender's line of the table."""
    label, nothing = result.contender.label, Interval(float("nan"), None, None)
    test = result.figure(metric.label) or nothing
    judged = result.figure(metric.label, "validation") or nothing
    gap = None if label == baseline else oriented(comparison.pairs, label, baseline)
    return {
        "contender": label,
        "test": test.mean,
        "low": test.low,
        "high": test.high,
        "validation": judged.mean,
        "seconds": result.final_seconds,
        f"against_{baseline}": 0.0 if gap is None else gap.mean,
        "verdict": "baseline" if gap is None else gap.verdict,
    }


def _contender(label: str, what: Contestant) -> Contender:
    """Each fit makes a model of its own."""
    if isinstance(what, TunedContender):
        return Contender(label, what.family, what.params, search=what.search)
    return Contender(label, what) if isinstance(what, str) else Contender(label, what.family, what.params())


def _named(contenders: Sequence[Contestant] | Mapping[str, Contestant]) -> dict[str, Contestant]:
    if isinstance(contenders, Mapping):
        return {"popular": "popular"} | dict(contenders)
    named: dict[str, Contestant] = {"popular": "popular"}
    given: set[str] = set()
    for each in contenders:
        label = each if isinstance(each, str) else each.family
        if label in given:
            raise InputError(
                f"two contenders are called {label!r}; give a mapping of names to models", where="contenders"
            )
        given.add(label)
        named[label] = each
    return named


def _show(done: float, message: str) -> bool:
    end = "\n" if done >= 1 else "\r"
    print(f"{done:4.0%} {message}", end=end, file=sys.stderr, flush=True)  # noqa: T201
    return True
