"""Tables of a contest, as frames, CSV and Parquet."""

from __future__ import annotations

import json
from collections.abc import Callable
from io import BytesIO

import polars as pl

from gleaner.core.data.tables.csv_cells import shown_cells
from gleaner.report.report_data import ReportData


def written(findings: ReportData, name: str, form: str) -> bytes:
    """One table as `csv` or `parquet`. Raises KeyError for a name that `TABLES` does not have."""
    frame, out = TABLES[name](findings), BytesIO()
    if form == "parquet":
        frame.write_parquet(out)
    else:
        shown_cells(frame)[0].write_csv(out)
    return out.getvalue()


def leaderboard(findings: ReportData) -> pl.DataFrame:
    """A line per contender, best first: every figure of the test part, costs, parameters."""
    run = findings.run
    rows = []
    for place, each in enumerate(run.standings, start=1):
        figures = {name: got.mean if (got := each.figure(name)) else None for name in run.spec.rank.names()}
        against = each.against_popular
        rows.append(
            {"place": place, "contender": each.contender, "family": each.family, "chosen": each.contender == run.winner}
            | figures
            | {
                "against_baseline": against.verdict if against else None,
                "fit_seconds": each.fit_seconds,
                "list_ms": each.list_ms,
                "peak_memory_mb": each.peak_memory_mb,
                "model": each.model,
                "params": json.dumps(each.params),
            }
        )
    return pl.DataFrame(rows, infer_schema_length=None)


def figures(findings: ReportData) -> pl.DataFrame:
    """A line per contender, part and metric, with the interval."""
    rows = [
        {"contender": each.contender} | got.model_dump(include={"part", "metric", "mean", "low", "high"})
        for each in findings.run.standings
        for got in each.figures
    ]
    return pl.DataFrame(rows, infer_schema_length=None)


def pairs(findings: ReportData) -> pl.DataFrame:
    """A line per pair of contenders on the deciding metric."""
    comparison = findings.run.comparison
    rows = [each.model_dump() for each in comparison.pairs] if comparison else []
    names = ["first", "second", "difference", "low", "high", "p", "p_holm", "users", "verdict"]
    return pl.DataFrame(rows, schema=None if rows else dict.fromkeys(names, pl.String), infer_schema_length=None)


def attempts(findings: ReportData) -> pl.DataFrame:
    """A line per attempt of every tuned contender."""
    rows = [
        {"contender": tuning.contender, "number": each.number, "state": each.state, "value": each.value,
         "chosen": json.dumps(each.chosen), "training_loss": each.training_loss,
         "validation_loss": each.validation_loss, "seconds": each.seconds}
        | each.figures
        for tuning in findings.tunings
        for each in tuning.attempts
    ]  # fmt: skip
    return pl.DataFrame(rows, infer_schema_length=None) if rows else pl.DataFrame({"contender": [], "number": []})


def curves(findings: ReportData) -> pl.DataFrame:
    """A line per iteration or share of the data of every contender."""
    metric = findings.run.decide_by
    rows = [
        {"contender": curve.contender, "iteration": done.iteration, "share": None, metric: done.metrics.get(metric)}
        | {f"{name}_loss": loss for name, loss in done.losses.items()}
        for curve in findings.curves
        for done in curve.rounds
    ]
    rows += [
        {"contender": curve.contender, "iteration": None, "share": point.share, metric: point.mean}
        for curve in findings.curves
        for point in curve.amounts
    ]
    return pl.DataFrame(rows, infer_schema_length=None) if rows else pl.DataFrame({"contender": [], "iteration": []})


def segments(findings: ReportData) -> pl.DataFrame:
    """A line per segment and contender."""
    rows = [
        {"by": each.by, "segment": part.name, "users": part.users, "relevant": part.pairs, "contender": got.contender,
         "metric": each.metric, "mean": got.mean, "low": got.low, "high": got.high}
        for each in findings.segments
        for part in each.segments
        for got in part.figures
    ]  # fmt: skip
    return pl.DataFrame(rows, infer_schema_length=None) if rows else pl.DataFrame({"by": [], "segment": []})


TABLES: dict[str, Callable[[ReportData], pl.DataFrame]] = {
    each.__name__: each for each in (leaderboard, figures, pairs, attempts, curves, segments)
}
