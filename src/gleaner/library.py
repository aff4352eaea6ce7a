"""Gleaner without the service: from a frame to a compared, explained, saved model, in a notebook or a script.

    import gleaner.library as gl

    data = gl.interactions(frame, user="grower", item="variety", kind="kind", time="at")
    parts = gl.split(data, kinds={"view": 1, "save": 3, "request": 5})
    found = gl.compare(parts, ["item_knn", gl.model("als", rank=64)])
    als = found.best
    als.recommend("g-0417")

Frames may be Polars or pandas; answers are Polars frames. Every call takes its seed, and the same seed gives the same
answer.
"""

from __future__ import annotations

import json
import shutil
import sys
import time as clock
import warnings
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

import polars as pl

from gleaner import __version__
from gleaner.array_files import read_arrays, write_arrays
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.matrix_arrays import arrays_of, matrix_of
from gleaner.core.data.rows import InteractionRows
from gleaner.core.data.tables.side import Features, features_of
from gleaner.core.data.ties import tie_order
from gleaner.core.errors import DataError, InputError, ParameterError, near
from gleaner.core.evaluation import RankPlan, evaluate
from gleaner.core.fitted import Fitted
from gleaner.core.metrics.catalogue import better_sign, require_metric, split_name
from gleaner.core.metrics.statistics import Difference, compare_all
from gleaner.core.metrics.verdicts import oriented, sentences
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.base.registry import FAMILIES, build
from gleaner.core.models.base.watching import Judge, Watch
from gleaner.core.preparation.prepare import Preparation, build_matrix, keep_rows
from gleaner.core.splits.split import Split
from gleaner.core.splits.split import split as cut
from gleaner.core.splits.truth import Truth, truth_of

__all__ = [
    "ContestResult",
    "SplitParts",
    "compare",
    "families",
    "features",
    "fit",
    "interactions",
    "load",
    "matrix",
    "model",
    "save",
    "split",
]
CARD, STATE, MATRIX = "model.json", "state.safetensors", "matrix.safetensors"


def interactions(
    frame: Any,
    *,
    user: str,
    item: str,
    value: str | None = None,
    kind: str | None = None,
    time: str | None = None,
    scale: tuple[float, float] | None = None,
) -> InteractionRows:
    """Rows of a Polars or pandas frame, its columns named. Ids become text as they are; scale: lowest, highest value.

    Raises DataError naming the column that is missing, or holds an empty id or a value that is not finite.
    """
    table = frame if isinstance(frame, pl.DataFrame) else pl.from_pandas(frame)
    named = {"user": user, "item": item, "value": value, "kind": kind, "time": time}
    columns = []
    for role, name in named.items():
        if name is None:
            continue
        if name not in table.columns:
            raise DataError(f"there is no column {name!r}{near(name, table.columns)}", where=role)
        columns.append(_column(table[name], role))
    return InteractionRows.from_arrow(pl.DataFrame(columns).to_arrow(), scale)


def _column(column: pl.Series, role: str) -> pl.Series:
    name = column.name
    if role in ("user", "item"):
        if column.null_count():
            at = int(column.is_null().arg_true()[0])
            raise DataError(f"column {name!r} has no {role} in row {at + 1}", where=role)
        if column.dtype.is_numeric():
            _warn_of_numbers(name, column.dtype)
        return column.cast(pl.String).alias(role)
    if role == "value":
        values = column.cast(pl.Float64)
        if not values.drop_nulls().is_finite().all():
            raise DataError(f"column {name!r} holds a value that is not finite", where=role)
        return values.alias(role)
    if role == "time":
        if column.dtype == pl.String:
            column = column.str.to_datetime(time_zone="UTC")
        moments = column.cast(pl.Datetime("us")) if column.dtype == pl.Date else column
        zoned = getattr(moments.dtype, "time_zone", None)
        moments = moments.dt.convert_time_zone("UTC") if zoned else moments.dt.replace_time_zone("UTC")
        return moments.dt.cast_time_unit("us").alias(role)
    return column.cast(pl.String).alias(role)


def _warn_of_numbers(name: str, kind: pl.DataType) -> None:
    """Ids that were read as numbers have lost what only texts have."""
    warnings.warn(
        f"the ids in column {name!r} are numbers ({kind}): zeros before them and signs are gone, so that '007' is '7', "
        "long ones may be rounded, and with missing cells they end in .0; read the column as text, such as "
        f"schema_overrides={{{name!r}: pl.String}} of Polars or dtype={{{name!r}: str}} of pandas",
        UserWarning,
        stacklevel=4,
    )


@dataclass(frozen=True, eq=False)
class SplitParts:
    """What to train on and what to judge by: models of `train` on validation, models of `whole`, which is training and
    validation together, on test."""

    train: InteractionMatrix
    validation: Truth
    whole: InteractionMatrix
    test: Truth
    seed: int

    def __repr__(self) -> str:
        sizes = ((self.train, self.validation, "validation"), (self.whole, self.test, "test"))
        told = [
            f"{name}: {matrix.n_cells:,} training cells ({matrix.shape[0]:,} users x {matrix.shape[1]:,} items), "
            f"{len(truth.indices):,} held-out items of {len(truth.user_rows):,} users"
            for matrix, truth, name in sizes
        ]
        return "Parts\n  " + "\n  ".join(told)


def split(
    rows: InteractionRows,
    *,
    by: str = "time",
    test: float = 0.1,
    validation: float = 0.1,
    test_from: datetime | None = None,
    seed: int = 1,
    **prepare: Any,
) -> SplitParts:
    """Prepare and divide. `prepare` takes the steps of a Preparation: kinds, merge, min_user, half_life_days, use, ...

    by: time, rows, user_rows or last. Whatever a step learns it learns from training rows.
    """
    how = Preparation(**prepare)
    parts = cut(keep_rows(rows, how)[0], Split(by=by, test=test, validation=validation, test_from=test_from, seed=seed))  # type: ignore[arg-type]
    train, _ = build_matrix(parts.train, how)
    whole, _ = build_matrix(parts.train_and_validation(), how)
    return SplitParts(train, truth_of(parts.validation, train), whole, truth_of(parts.test, whole), seed)


def matrix(rows: InteractionRows, **prepare: Any) -> InteractionMatrix:
    """A training matrix of all rows, for release. `prepare` as in `split`."""
    how = Preparation(**prepare)
    return build_matrix(keep_rows(rows, how)[0], how)[0]


def features(train: InteractionMatrix, *, items: Any = None, users: Any = None) -> Features:
    """What the items and users of a matrix are, from frames whose first column is the id: for `fit(..., features=)`.

    Categories, lists of tags, numbers, flags, dates and text are taken; what encoding learns it learns from these items
    and users. Raises DataError on an id that is there twice.
    """
    return features_of(train.items, train.users, _table(items, "items"), _table(users, "users"))


def _table(frame: Any, which: str) -> pl.DataFrame | None:
    if frame is None:
        return None
    made = frame if isinstance(frame, pl.DataFrame) else pl.from_pandas(frame)
    if made.dtypes[0].is_numeric():
        _warn_of_numbers(made.columns[0], made.dtypes[0])
    made = made.rename({made.columns[0]: "id"}).with_columns(pl.col("id").cast(pl.String))
    again = made.filter(pl.col("id").is_duplicated())
    if again.height:
        first = again["id"][0]
        raise DataError(f"id {first!r} is there {(again['id'] == first).sum()} times", where=which)
    return made


def families() -> pl.DataFrame:
    """Every model family: what it takes and what it is for."""
    rows = [
        {
            "family": each.family,
            "feedback": each.feedback,
            "predicts_values": each.predicts_values,
            "takes_features": each.takes_features,
            "summary": each.summary,
        }
        for each in FAMILIES.values()
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
    made = model(what) if isinstance(what, str) else what
    watch = Watch(
        progress=_progress(made.family) if _shown(progress) else None,
        judge=judge,
        decide_by=decide_by,
        patience=patience,
        clock=clock.perf_counter,
    )
    made.fit(train, features=features, watch=watch)
    for text in watch.warnings:
        print(f"{made.family}: {text}", file=sys.stderr)  # noqa: T201
    return Fitted(name or made.family, made, train)


def _shown(progress: bool | None) -> bool:
    return sys.stderr.isatty() if progress is None else progress


def _progress(family: str) -> Any:
    def tell(done: float, iteration: int) -> bool:
        end = "\n" if done >= 1 else "\r"
        print(f"{family}: {done:4.0%}, iteration {iteration}", end=end, file=sys.stderr, flush=True)  # noqa: T201
        return True

    return tell


def judge_of(parts: SplitParts, metric: str = "ndcg@10") -> Judge:
    """A judge on the validation part, for `fit(..., judge=, decide_by=metric, patience=)`."""
    name, _, k = metric.partition("@")
    plan, ties = RankPlan([name], [int(k)], parts.seed), tie_order(parts.train.items)

    def judge(fitted: Model) -> dict[str, float]:
        found = evaluate(fitted, parts.train, parts.validation, plan, ties, sure=False)
        return {key: value.mean for key, value in found.means.items()}

    return judge


@dataclass(frozen=True, eq=False)
class ContestResult:
    """Contenders on the test part. best: the model that was best on the validation part. table: a row per contender.

    pairs: every paired difference with its interval and corrected p. told: what can be told from them, in sentences.
    """

    table: pl.DataFrame
    models: dict[str, Fitted]
    best: Fitted
    metric: str
    pairs: pl.DataFrame
    told: list[str]

    def __repr__(self) -> str:
        with pl.Config(tbl_rows=50, tbl_hide_dataframe_shape=True, tbl_hide_column_data_types=True, float_precision=4):
            told = "".join(f"\n{line}" for line in self.told)
            of = f"{self.metric} on the test part, 95 % interval; best on validation: {self.best.name}"
            return f"{of}\n{self.table}{told}"


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

    Popularity is always among them. The table says how each stands against it: the paired difference, and better, worse
    or cannot tell, corrected for all pairs compared. The test part chooses nothing.
    items, users: frames for models that take features, as in `features`.
    """
    named = _named(contenders)
    name, k = split_name(metric)
    if not require_metric(name).per_user or better_sign(metric) == 0:
        raise ParameterError(f"{metric} cannot decide: it has no figure per user, or no better way", where="metric")
    plan = RankPlan([name], [k or 10], parts.seed)
    rows, fitted, per_user, deciding = [], {}, {}, {}
    judged_on, scored_on = (features(each, items=items, users=users) for each in (parts.train, parts.whole))
    for label, what in named.items():
        judged = fit(_fresh(what), parts.train, name=label, features=judged_on, progress=progress)
        found = evaluate(judged.model, parts.train, parts.validation, plan, judged.ties)
        deciding[label] = better_sign(metric) * found.means[metric].mean
        begun = clock.perf_counter()
        fitted[label] = fit(_fresh(what), parts.whole, name=label, features=scored_on, progress=progress)
        seconds = clock.perf_counter() - begun
        scored = evaluate(fitted[label].model, parts.whole, parts.test, plan, fitted[label].ties)
        per_user[label] = scored.per_user[metric]
        rows.append(
            {
                "contender": label,
                "test": scored.means[metric].mean,
                "low": scored.means[metric].low,
                "high": scored.means[metric].high,
                "validation": found.means[metric].mean,
                "seconds": seconds,
            }
        )
    pairs = compare_all(per_user, better_sign(metric), parts.seed)
    table = pl.DataFrame([row | _against(str(row["contender"]), pairs) for row in rows])
    table = table.sort("test", descending=better_sign(metric) > 0)
    averages = dict(zip(table["contender"], table["test"], strict=True))
    told = sentences(averages, pairs, metric, table["contender"][0], "popular")
    best = fitted[max(deciding, key=lambda label: deciding[label])]
    return ContestResult(table, fitted, best, metric, pl.DataFrame([vars(pair) for pair in pairs]), told)


def _against(label: str, pairs: list[Difference]) -> dict[str, Any]:
    if label == "popular":
        return {"against_popular": 0.0, "verdict": "baseline"}
    gap = oriented(pairs, label, "popular")
    return {"against_popular": gap.mean, "verdict": gap.verdict}


def _named(contenders: Sequence[Model | str] | Mapping[str, Model | str]) -> dict[str, Model | str]:
    if isinstance(contenders, Mapping):
        named = dict(contenders)
    else:
        named = {}
        for each in contenders:
            label = each if isinstance(each, str) else each.family
            if label in named:
                raise InputError(
                    f"two contenders are called {label!r}; give a mapping of names to models", where="contenders"
                )
            named[label] = each
    return {"popular": "popular"} | named


def _fresh(what: Model | str) -> Model:
    """One of its own for each fit."""
    return model(what) if isinstance(what, str) else build(what.family, what.params())


def save(fitted: Fitted, folder: str | Path) -> Path:
    """Write a model as JSON and safetensors, which `load` reads back. Raises DataError where the folder is there."""
    place = Path(folder)
    if place.exists():
        raise DataError(f"{place} is there already; name another place", where="folder")
    # written beside its place and renamed, so that no half of a model ever stands there
    part = place.with_name(f".{place.name}.part")
    shutil.rmtree(part, ignore_errors=True)
    part.mkdir(parents=True)
    card = {"name": fitted.name, "family": fitted.model.family, "params": fitted.model.params(), "made_by": __version__}
    write_arrays(fitted.model.state(), part / STATE)
    write_arrays(arrays_of(fitted.train), part / MATRIX)
    (part / CARD).write_text(json.dumps(card, indent=2))
    part.rename(place)
    return place


def load(folder: str | Path) -> Fitted:
    """Read a model that `save`, or `gleaner model export`, wrote. Raises DataError naming the array that is not what it
    must be."""
    place = Path(folder)
    if not (place / CARD).exists():
        raise DataError(f"{place} holds no {CARD}", where="folder")
    try:
        card = json.loads((place / CARD).read_text())
        name, family, params = card["name"], card["family"], card["params"]
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        raise DataError(f"{CARD} is not a model's card: {error!r}", where=CARD) from None
    train = matrix_of(read_arrays(place / MATRIX))
    return Fitted(name, build(family, params).restore(read_arrays(place / STATE), train), train)
