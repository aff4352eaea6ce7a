"""How well every model does with its defaults on several simulated worlds, against the best possible ranking.

`python -m bench.quality` measures and writes docs/measured.json, from which docs/methods.md is made; `--on validation`
prints figures for choosing defaults, and `--try "als rank=64"` tries others.
"""

from __future__ import annotations

import argparse
import functools
import hashlib
import json
import time
from pathlib import Path
from typing import Any

import numpy as np
import polars as pl

from gleaner import __version__
from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.rows import InteractionRows
from gleaner.core.data.tables.row_features import Features, features_of
from gleaner.core.data.ties import tie_order
from gleaner.core.metrics.evaluation import RankPlan, evaluate
from gleaner.core.models.base.capabilities import PredictsValues, taking_features
from gleaner.core.models.base.factor_model import FactorModel
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.base.registry import FAMILIES, build
from gleaner.core.models.base.watching import Watch, stops_early
from gleaner.core.preparation.prepare import build_matrix, keep_rows
from gleaner.core.preparation.recipe import Preparation
from gleaner.core.splits.split import Split, split
from gleaner.core.splits.truth import Truth, truth_of
from gleaner.demo.events import make_events
from gleaner.demo.world import Sizes, make_world

WORLDS = {
    "demo": Sizes(1500, 900, 90_000, 7),
    "dense": Sizes(2_500, 400, 220_000, 21),
    "sparse": Sizes(6_000, 5_000, 260_000, 22),
    "wide": Sizes(1_500, 8_000, 200_000, 23),
}
BENCHED = {"ratings": Sizes(8_000, 3_000, 2_000_000, 24)}
"""A world with more than 100,000 ratings, for bin/bench."""
KINDS = {"view": 1.0, "save": 3.0, "request": 5.0}
ROOT = Path(__file__).parent.parent
MEASURED, CORE = ROOT / "docs" / "measured.json", ROOT / "src" / "gleaner" / "core"
PLAN = RankPlan(["ndcg"], [10], 1)


class Best(FactorModel):
    """The simulator's own affinities: no model ranks better, but for luck."""

    family = "truth"

    def learn(self, train: Any, features: Any, watch: Any) -> None:
        """Nothing to learn."""

    fold_in = fold_in_item = None  # type: ignore[assignment]


@functools.cache
def rows_of(name: str) -> tuple[InteractionRows, Any]:
    """The events of a world as rows, and the world."""
    sizes = (WORLDS | BENCHED)[name]
    world = make_world(sizes)
    events = make_events(world, sizes)
    frame = events.select(
        user="grower",
        item="variety",
        kind="kind",
        time=pl.col("at").cast(pl.Datetime("us")).dt.replace_time_zone("UTC"),
        value=pl.col("value").cast(pl.Float64),
    )
    return InteractionRows.from_arrow(frame.to_arrow(), (1.0, 5.0)), world


@functools.cache
def ranking_of(name: str, part: str) -> tuple[InteractionMatrix, Truth, Model]:
    """Training matrix, truth and best possible model of one part, split in time as the demo's contest is."""
    rows, world = rows_of(name)
    how = Preparation(kinds=KINDS, min_user=5, min_item=5)
    parts = split(keep_rows(rows, how)[0], Split(test=0.1, validation=0.1))
    seen, judged = (
        (parts.train, parts.validation) if part == "validation" else (parts.train_and_validation(), parts.test)
    )
    train, _ = build_matrix(seen, how)
    best = Best()
    best.user_factors_ = world.user_vectors[IdMap(world.users["grower"]).rows(train.users.ids.to_pylist())]
    best.item_factors_ = world.item_vectors[IdMap(world.items["variety"]).rows(train.items.ids.to_pylist())]
    return train, truth_of(judged, train), best


@functools.cache
def columns_of(name: str, part: str) -> Features:
    """What the world's tables say of the users and items of that matrix."""
    _, world = rows_of(name)
    train, _, _ = ranking_of(name, part)
    items, users = world.items.rename({"variety": "id"}), world.users.rename({"grower": "id"})
    return features_of(train.items, train.users, items, users)


@functools.cache
def values_of(name: str, part: str) -> tuple[InteractionMatrix, np.ndarray, np.ndarray, np.ndarray]:
    """Training ratings, and users, items and ratings held out at random."""
    rows, _ = rows_of(name)
    how = Preparation(kinds={"grown": 1}, use="values", merge="mean")
    parts = split(keep_rows(rows, how)[0], Split(by="rows", test=0.1, validation=0.1, seed=1))
    seen, judged = (
        (parts.train, parts.validation) if part == "validation" else (parts.train_and_validation(), parts.test)
    )
    train, _ = build_matrix(seen, how)
    users = train.users.rows(judged.users.take(judged.frame["user"].to_numpy()))
    items = train.items.rows(judged.items.take(judged.frame["item"].to_numpy()))
    return train, users, items, judged.frame["value"].to_numpy()


def ndcg(model: Model, name: str, part: str, *, fitted: bool = False) -> dict[str, float | None]:
    """nDCG@10, its interval and seconds of the fit."""
    train, truth, _ = ranking_of(name, part)
    columns = columns_of(name, part) if taking_features(model) is not None else None
    begun = time.perf_counter()
    if not fitted:
        model.fit(train, features=columns)
    seconds = time.perf_counter() - begun
    figures = evaluate(model, train, truth, PLAN, tie_order(train.items)).means["ndcg@10"]
    return {"ndcg@10": figures.mean, "low": figures.low, "high": figures.high, "seconds": seconds}


def errors(model: Any, name: str, part: str, *, fitted: bool = False) -> dict[str, float]:
    """RMSE over held-out pairs, and the share the model could answer."""
    train, users, items, values = values_of(name, part)
    columns = columns_for(model, name, train)
    begun = time.perf_counter()
    if not fitted:
        model.fit(train, features=columns)
    seconds = time.perf_counter() - begun
    rated = model.rate(users, items)
    rmse = float(np.sqrt(np.mean((rated.values - values) ** 2)))
    return {"rmse": rmse, "answered": float(rated.answerable.mean()), "seconds": seconds}


def code_version() -> str:
    """The version, and a digest of everything that computes: two figures of the same one can be compared."""
    digest = hashlib.sha256()
    for path in sorted(CORE.rglob("*.py")):
        digest.update(path.relative_to(CORE).as_posix().encode() + path.read_bytes())
    return f"{__version__}+{digest.hexdigest()[:12]}"


def data_hash(name: str) -> str:
    """A digest of a world's rows, in their order."""
    rows, _ = rows_of(name)
    frame = rows.frame.with_columns(
        user=pl.Series(rows.users.take(rows.frame["user"].to_numpy())),
        item=pl.Series(rows.items.take(rows.frame["item"].to_numpy())),
    )
    return hashlib.sha256(frame.select("user", "item", "kind", "time", "value").write_csv().encode()).hexdigest()[:16]


def measure_all(part: str, only: list[str], worlds: list[str], params: dict[str, Any]) -> dict[str, Any]:
    """Figures of every family on every world."""
    result: dict[str, Any] = {}
    for world in worlds:
        train, truth, best = ranking_of(world, part)
        rated = values_of(world, part)[0]
        about = {
            "users": train.shape[0],
            "items": train.shape[1],
            "cells": train.n_cells,
            "judged": len(truth.user_rows),
            "data": data_hash(world),
        }
        result[world] = {"about": about | {"ratings": rated.n_cells}, "best": ndcg(best, world, part, fitted=True)}
        for name in only:
            wanted = dict(params)
            judge = errors if issubclass(FAMILIES[name], PredictsValues) else ndcg
            model = build(name, wanted)
            begun, found = time.perf_counter(), {}
            if stops_early(model) and part == "test":
                found = {"iterations": iterations_of(model, judge, world)}
            elif not stops_early(model):
                # what is compiled when it is first called counts for nobody
                judge(build(name, wanted), world, part)
            seconds = time.perf_counter() - begun if found else 0.0
            measured = judge(build(name, wanted | found), world, part)
            measured["seconds"] = (measured["seconds"] or 0.0) + seconds
            result[world][name] = measured | {"params": model.params(), "code": code_version()} | found
            figures = "  ".join(f"{key} {value:.4f}" for key, value in measured.items())
            print(f"{world:7} {name:16} {figures}   best {result[world]['best']['ndcg@10']:.4f}", flush=True)
    return result


def iterations_of(model: Any, judge: Any, world: str) -> int:
    """How many iterations a fit that is judged on validation finds best, as a contest would."""
    figure, lower = ("rmse", True) if judge is errors else ("ndcg@10", False)

    def judged(as_it_stands: Any) -> dict[str, float]:
        return {figure: judge(as_it_stands, world, "validation", fitted=True)[figure]}

    watch = Watch(judge=judged, decide_by=figure, lower_is_better=lower)
    train = values_of(world, "validation")[0] if lower else ranking_of(world, "validation")[0]
    model.fit(train, features=columns_for(model, world, train), watch=watch)
    return watch.best or model.iterations


def columns_for(model: Model, world: str, train: InteractionMatrix) -> Features | None:
    """What the world's tables say of the rows of a matrix, for a model that looks at it."""
    if taking_features(model) is None:
        return None
    _, told = rows_of(world)
    tables = told.items.rename({"variety": "id"}), told.users.rename({"grower": "id"})
    return features_of(train.items, train.users, *tables)


def main() -> None:
    """Measure."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--on", choices=["validation", "test"], default="test")
    parser.add_argument("--only", nargs="*", default=list(FAMILIES))
    parser.add_argument("--worlds", nargs="*", default=list(WORLDS))
    parser.add_argument("--try", dest="params", type=json.loads, default={}, help="parameters, as JSON")
    given = parser.parse_args()
    measured = measure_all(given.on, given.only, given.worlds, given.params)
    if given.on == "test" and not given.params:
        known = json.loads(MEASURED.read_text()) if MEASURED.exists() else {}
        whole = {world: {**known.get(world, {}), **figures} for world, figures in measured.items()}
        order = ["about", "best", *FAMILIES]
        kept = {world: {name: figures[name] for name in order if name in figures} for world, figures in whole.items()}
        MEASURED.write_text(json.dumps({**known, **kept}, indent=1) + "\n")


if __name__ == "__main__":
    main()
