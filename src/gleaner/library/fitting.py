"""Models, fitted on a matrix and judged as they go."""

from __future__ import annotations

import sys
import time
from typing import Any

import polars as pl

from gleaner.core.contests.judging import StageJudge
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.data.ties import tie_order
from gleaner.core.errors import DataError
from gleaner.core.fitted import Fitted
from gleaner.core.metrics.catalogue import MetricReference
from gleaner.core.metrics.evaluation import RankPlan
from gleaner.core.models.base.facts import FamilyFacts
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.base.registry import FAMILIES, build
from gleaner.core.models.base.watching import Judge, Watch
from gleaner.library.parts import SplitParts


def families() -> pl.DataFrame:
    """Every model family: what it takes and what it is for."""
    rows = [
        {
            "family": each.family,
            "feedback": each.feedback,
            "predicts_values": each.predicts_values,
            "takes_features": each.takes_features,
            "takes_context": each.takes_context,
            "summary": each.summary,
        }
        for each in map(FamilyFacts.of, FAMILIES.values())
    ]
    return pl.DataFrame(rows)


def model(family: str, **params: Any) -> Model:
    """A model, not yet fitted. Raises UnknownNameError or ParameterError."""
    return build(family, params)


def fit(
    what: Model | str,
    train: InteractionMatrix,
    *,
    name: str | None = None,
    judge: Judge | None = None,
    decide_by: str = "",
    patience: int = 0,
    features: Features | None = None,
    progress: bool | None = None,
) -> Fitted:
    """Fit on a matrix. features: of its users and items, for models that take them. progress: a line on standard error;
    by default on a terminal. judge, decide_by, patience: see Watch; `judge_of` makes a judge from parts."""
    chosen = model(what) if isinstance(what, str) else what
    watch = Watch(
        progress=_progress(chosen.family) if shown(progress) else None,
        judge=judge,
        decide_by=decide_by,
        lower_is_better=bool(decide_by) and MetricReference.parse(decide_by).sign < 0,
        patience=patience,
        clock=time.perf_counter,
    )
    chosen.fit(train, features=features, watch=watch)
    print_warnings(chosen.family, watch)
    return Fitted(name or chosen.family, chosen, train)


def print_warnings(label: str, watch: Watch) -> None:
    """What a fit was warned of, on standard error."""
    for text in watch.warnings:
        print(f"{label}: {text}", file=sys.stderr)  # noqa: T201


def shown(progress: bool | None) -> bool:
    """Whether progress is shown: as asked for, else on a terminal."""
    return sys.stderr.isatty() if progress is None else progress


def _progress(family: str) -> Any:
    def report_progress(done: float, iteration: int) -> bool:
        end = "\n" if done >= 1 else "\r"
        print(f"{family}: {done:4.0%}, iteration {iteration}", end=end, file=sys.stderr, flush=True)  # noqa: T201
        return True

    return report_progress


def judge_of(parts: SplitParts, metric: str = "ndcg@10") -> Judge:
    """A judge on the validation part, for `fit(..., judge=, decide_by=metric, patience=)`."""
    stage = parts.parts.stage("validation")
    if stage is None:
        raise DataError("there is no validation part to judge by", where="parts")
    reference = MetricReference.parse(metric)
    return StageJudge(stage, RankPlan([reference.name], [reference.k or 10], parts.seed), tie_order(stage.train.items))
