"""Contenders compared on the same parts, by the engine that runs contests."""

from __future__ import annotations

import sys
import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import polars as pl

from gleaner.core.contests.comparison import PairedComparison
from gleaner.core.contests.contest import Contest
from gleaner.core.contests.engine import run_contest
from gleaner.core.contests.listening import QuietListener
from gleaner.core.contests.plan import Contender, ContestPlan
from gleaner.core.contests.results import ContenderResult
from gleaner.core.contests.side_tables import SideTables, TableFrames
from gleaner.core.errors import InputError, ParameterError
from gleaner.core.fitted import Fitted
from gleaner.core.metrics.catalogue import MetricReference
from gleaner.core.metrics.statistics import Interval
from gleaner.core.metrics.verdicts import oriented
from gleaner.core.models.base.protocol import Model
from gleaner.library.fitting import print_warnings, shown
from gleaner.library.frames import table_of
from gleaner.library.parts import SplitParts


@dataclass(frozen=True, eq=False)
class ContestResult:
    """Contenders on the test part. best: the model that was best on the validation part. table: a row per contender.

    pairs: every paired difference with its interval and corrected p. conclusions: what can be told from them, in
    sentences.
    """

    table: pl.DataFrame
    models: dict[str, Fitted]
    best: Fitted
    metric: str
    pairs: pl.DataFrame
    conclusions: list[str]

    def __repr__(self) -> str:
        with pl.Config(tbl_rows=50, tbl_hide_dataframe_shape=True, tbl_hide_column_data_types=True, float_precision=4):
            sentences = "".join(f"\n{line}" for line in self.conclusions)
            of = f"{self.metric} on the test part, 95 % interval; best on validation: {self.best.name}"
            return f"{of}\n{self.table}{sentences}"


def compare(
    parts: SplitParts,
    contenders: Sequence[Model | str] | Mapping[str, Model | str],
    *,
    metric: str = "ndcg@10",
    items: Any = None,
    users: Any = None,
    progress: bool | None = None,
) -> ContestResult:
    """Fit every contender on training for the validation figure, and on training and validation for the test figure.

    The baseline is always among them: popularity, or the mean value where the metric is one of predicted values. The
    table says how each stands against it: the paired difference, and better, worse or cannot tell, corrected for all
    pairs compared. The test part chooses nothing.
    items, users: frames for models that take features, as in `features`.
    """
    reference = MetricReference.parse(metric)
    if not reference.metric.per_user or reference.sign == 0:
        raise ParameterError(f"{metric} cannot decide: it has no figure per user, or no better way", where="metric")
    named = {reference.metric.baseline: reference.metric.baseline} | _named(contenders)
    plan = ContestPlan(
        [_contender(*each) for each in named.items()], [reference.name], [reference.k or 10], reference, parts.seed
    )
    listener = QuietListener(_show if shown(progress) else None, time.perf_counter)
    frames = TableFrames(table_of(items, "items"), table_of(users, "users"))
    outcome = run_contest(Contest.of(plan, parts.parts, SideTables(lambda: frames), listener))
    results = {each.contender.label: each for each in listener.results}
    for label, result in results.items():
        print_warnings(label, result.watch)
    assert outcome.comparison is not None
    models = {label: Fitted(label, results[label].model, results[label].train) for label in named}
    table = pl.DataFrame([_row(results[label], reference, plan.baseline, outcome.comparison) for label in named])
    table = table.sort("test", descending=reference.sign > 0)
    pairs = pl.DataFrame([vars(pair) for pair in outcome.comparison.pairs])
    return ContestResult(table, models, models[outcome.winner], metric, pairs, outcome.comparison.sentences)


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


def _contender(label: str, what: Model | str) -> Contender:
    """Each fit makes a model of its own."""
    return Contender(label, what) if isinstance(what, str) else Contender(label, what.family, what.params())


def _named(contenders: Sequence[Model | str] | Mapping[str, Model | str]) -> dict[str, Model | str]:
    if isinstance(contenders, Mapping):
        return {"popular": "popular"} | dict(contenders)
    named: dict[str, Model | str] = {"popular": "popular"}
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
