"""Figures of a finished run, looked at another way: another metric compared, a metric by segments."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

import polars as pl
from sqlalchemy import Connection

from gleaner.core.contests.comparison import compared
from gleaner.core.contests.figures import PER_PAIR, column
from gleaner.core.errors import InputError, near
from gleaner.core.metrics.catalogue import MetricReference, better_sign
from gleaner.core.metrics.segments import Masks, UserSegment, in_bins, in_groups, in_spans, of_items, of_users
from gleaner.core.metrics.statistics import intervals_each
from gleaner.core.metrics.values import by_bins, even_starts, quarter_starts
from gleaner.jobs.contests.messages import comparison_message
from gleaner.service.datasets.tables import scan
from gleaner.service.http.state import Service
from gleaner.store import contests, datasets, models
from gleaner.store.datasets import VersionFiles
from gleaner.store.files.per_user import read_metric
from gleaner.store.records.contests import RunRecord
from gleaner.wire.contests.likelihoods import ContenderLikelihood, LikelihoodReport
from gleaner.wire.contests.rank import baseline_family
from gleaner.wire.contests.runs import (
    ContestComparison,
    PredictedBin,
    PredictedValues,
    Segment,
    SegmentFigure,
    Segments,
    ValueReport,
)
from gleaner.wire.models.cards import Likelihood

Part = Literal["validation", "test"]
FIXED = ("history", "popularity", "time", "seen", "seen_items")
OF_USERS = ("history", "user", "seen")
SEEN, NEW = "seen in training", "new to training"
"""New users are scored where whole users are held out, or where the split keeps them; elsewhere they are counted."""


def compare(service: Service, connection: Connection, name: str, metric: str | None) -> ContestComparison:
    """Every pair of contenders that are done. Raises UnknownNameError, InputError."""
    run, files = _files(service, connection, name)
    metric = metric or run.decide_by
    _require_metric(run, metric)
    family = baseline_family(metric)
    baseline = next((each.label for each in run.spec.contenders if each.family == family), "")
    lacking = [(each.label, each.ablates, each.lacks or "") for each in run.spec.contenders if each.ablates]

    def work_out() -> ContestComparison | None:
        by_user = read_metric(files, metric)
        return comparison_message(compared(by_user, MetricReference.parse(metric), run.spec.seed, baseline, lacking))

    comparison = service.figures.once(("comparison", run.name, tuple(files.items()), metric), work_out)
    if comparison is None:
        text = f"{metric} is one figure for all users together, so they cannot be compared on it"
        raise InputError(text if files else f"no contender of {run.name} is done yet", where="metric")
    return comparison


def segments(
    service: Service, connection: Connection, name: str, by: str, metric: str | None, part: Part, bins: int
) -> Segments:
    """One metric by segments of users or of relevant items. Raises UnknownNameError, InputError."""
    run, files = _files(service, connection, name)
    metric = metric or run.decide_by
    _require_metric(run, metric)
    side, _, attribute = by.partition(":")
    if by not in FIXED and (side not in ("user", "item") or not attribute):
        raise InputError(f"by must be {', '.join(FIXED)}, user:COLUMN or item:COLUMN, not {by!r}", where="by")
    columns = datasets.files(connection, run.data) if attribute else None
    tables = columns and (columns.items_file, columns.users_file)
    key = ("segments", run.name, tuple(files.items()), tables, by, metric, part, bins)

    def work_out() -> Segments:
        table = _attribute(service, columns, side, attribute) if columns else None
        return _worked_out(run, files, by, table, metric, part, bins)

    return service.figures.once(key, work_out)


def _worked_out(
    run: RunRecord, files: dict[str, Path], by: str, table: pl.DataFrame | None, metric: str, part: Part, bins: int
) -> Segments:
    side = by.partition(":")[0]
    by_segment: dict[str, dict[str, UserSegment]] = {}
    for contender, path in files.items():
        frame = pl.read_parquet(path).filter(part=part)
        if metric not in frame.columns:
            continue
        if "items" not in frame.columns:
            text = f"{run.name} was run before places were kept with its figures; run it again for segments"
            raise InputError(text, where="by")
        if by == "time" and "moments" not in frame.columns:
            raise InputError(f"{run.data} has no times", where="by")
        segments_of = _by_user if side in OF_USERS else _by_item
        for each in segments_of(run, frame, by, table, metric, bins):
            by_segment.setdefault(each.name, {})[contender] = each
    if not by_segment:
        raise InputError(f"{metric} is one figure for all users together, so it has no segments", where="metric")
    listed = [_segment(name, by_contender, run.spec.seed) for name, by_contender in by_segment.items()]
    if by == "seen" and run.spec.split.by != "users" and (unseen := _unseen_users(run, part)):
        listed.append(Segment(name=NEW, users=unseen, pairs=0, figures=[]))
    of: Literal["users", "items"] = "users" if side in OF_USERS else "items"
    less = better_sign(metric) < 0
    left_out = _unseen(run, part)
    return Segments(by=by, metric=metric, part=part, of=of, segments=listed, less_is_better=less, left_out=left_out)


def _segment(name: str, by_contender: dict[str, UserSegment], seed: int) -> Segment:
    """What the contenders come to in one segment, whose users are counted by the first of them."""
    first = next(iter(by_contender.values()))
    found = intervals_each([each.figures for each in by_contender.values()], seed)
    figures = [SegmentFigure(contender=label, **vars(each)) for label, each in zip(by_contender, found, strict=True)]
    return Segment(name=name, users=len(first.figures), pairs=first.pairs, figures=figures)


def values(service: Service, connection: Connection, name: str, part: Part) -> ValueReport:
    """Predicted against actual by bins, for contenders that predict values. Raises UnknownNameError, InputError."""
    run, files = _files(service, connection, name)
    contenders = []
    for contender, path in files.items():
        if "actual" in pl.read_parquet_schema(path):
            frame = pl.read_parquet(path).filter(pl.col("part") == part, pl.col("actual").is_not_null())
            contenders.append(_predicted(contender, frame.select("own_mean", "actual", "predicted")))
    if not contenders:
        raise InputError(f"{run.name} has no contender that predicts values; name rmse in rank.metrics", where="run")
    return ValueReport(part=part, contenders=contenders)


def likelihoods(connection: Connection, name: str) -> LikelihoodReport:
    """What the chances of contenders came to on the test part. Raises UnknownNameError."""
    contenders = []
    for each in contests.get(connection, name).standings:
        told = None if each.model is None else models.get(connection, each.model).story.likelihood
        if told is not None:
            likelihood = Likelihood.model_validate(told)
            contenders.append(ContenderLikelihood(contender=each.contender, likelihood=likelihood))
    return LikelihoodReport(contenders=contenders)


def _predicted(contender: str, frame: pl.DataFrame) -> PredictedValues:
    pairs = frame.explode("actual", "predicted").cast(pl.Float64)
    own, actual, predicted = (pairs[name].to_numpy() for name in ("own_mean", "actual", "predicted"))
    cuts = {
        "by_actual": (actual, even_starts(actual)),
        "by_predicted": (predicted, even_starts(predicted)),
        "by_strictness": (own, quarter_starts(own)),
    }
    bins = {
        name: [PredictedBin(**row) for row in by_bins(of, starts, actual, predicted).iter_rows(named=True)]
        for name, (of, starts) in cuts.items()
    }
    return PredictedValues(contender=contender, n=pairs.height, **bins)


def _by_user(
    run: RunRecord, frame: pl.DataFrame, by: str, table: pl.DataFrame | None, metric: str, bins: int
) -> list[UserSegment]:
    if by == "seen":
        masks = _seen(frame["history"] if run.spec.split.by != "users" else pl.zeros(frame.height, eager=True))
    elif table is None:
        masks = in_bins(frame["history"], bins)
    else:
        masks = _masks(frame.select(id="user").join(table, on="id", how="left", maintain_order="left"), bins)
    return of_users(column(frame, metric), frame["items"].list.len().fill_null(0).to_numpy(), masks)


def _by_item(
    run: RunRecord, frame: pl.DataFrame, by: str, table: pl.DataFrame | None, metric: str, bins: int
) -> list[UserSegment]:
    named = [name for name in PER_PAIR if name in frame.columns]
    frame = frame.filter(pl.col("items").is_not_null())
    pairs = frame.select(named).with_row_index("at").explode(named).rename({"places": "place"})
    if table is not None:
        masks = _masks(pairs.select(id="items").join(table, on="id", how="left", maintain_order="left"), bins)
    elif by == "popularity":
        masks = in_bins(pairs["popularity"], bins)
    elif by == "seen_items":
        masks = _seen(pairs["popularity"])
    else:
        masks = in_spans(pairs["moments"], bins)
    return of_items(pairs, masks, metric)


def _seen(counts: pl.Series) -> Masks:
    """Who or what has interactions in training, and who or what has none."""
    new = (counts == 0).to_numpy()
    return [(name, mask) for name, mask in ((SEEN, ~new), (NEW, new)) if mask.any()]


def _masks(joined: pl.DataFrame, bins: int) -> Masks:
    """Segments by a column of a table: ranges of numbers and dates, else what the cells say."""
    cells = joined.drop("id").to_series()
    if cells.dtype.is_numeric() and not cells.null_count():
        return in_bins(cells.round().cast(pl.Int64), bins)
    if cells.dtype.is_temporal() and not cells.null_count():
        return in_spans(cells.cast(pl.Datetime("us")), bins)
    return in_groups(cells)


def _attribute(service: Service, files: VersionFiles, side: str, attribute: str) -> pl.DataFrame:
    table = scan(service, files, "users" if side == "user" else "items")
    names = table.collect_schema().names()
    if attribute not in names or attribute == "id":
        has = near(attribute, [name for name in names if name != "id"])
        raise InputError(f"the {side} table of {files.name} has no column {attribute!r}{has}", where="by")
    return table.select("id", attribute).collect()


def _unseen(run: RunRecord, part: str) -> str | None:
    n = _unseen_users(run, part)
    return f"{n:,} users of the {part} part are new to training and have no figures" if n else None


def _unseen_users(run: RunRecord, part: str) -> int:
    report = next((each for each in run.parts if each.part == part), None)
    return (report.unseen_users or 0) if report else 0


def _require_metric(run: RunRecord, metric: str) -> None:
    if metric not in run.spec.rank.names():
        raise InputError(f"{run.name} has no metric {metric!r}{near(metric, run.spec.rank.names())}", where="metric")


def _files(service: Service, connection: Connection, name: str) -> tuple[RunRecord, dict[str, Path]]:
    run, digests = contests.files_of_run(connection, name)
    return run, {label: service.artefacts.local_path(digest) for label, digest in digests.items()}
