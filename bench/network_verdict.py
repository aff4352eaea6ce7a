"""Networks beside plain models on the same terms: defaults, and tuning with the same seconds for each.

`python -m bench.network_verdict --baskets FILE --ratings FILE` measures on the four simulated worlds and on two open
sets, whose files packages of the registries ship and this repository does not, and writes docs/measured_networks.json,
from which docs/methods.md is made. baskets: rows of a shop with TRANSACTION_DT, CUSTOMER_ID and PRODUCT_ID; ratings:
rows with s (who), d (whom), y (how good), and columns of what goes with it.
"""

from __future__ import annotations

import argparse
import json
import time
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

import polars as pl

import gleaner.library as gl
from bench.quality import KINDS, rows_of
from gleaner.core.contests.contest import Contest
from gleaner.core.contests.engine import run_contest
from gleaner.core.contests.plan import Contender, ContestPlan
from gleaner.core.contests.results import ContenderResult, ContestOutcome
from gleaner.core.contests.side_tables import SideTables, TableFrames
from gleaner.core.metrics.catalogue import MetricReference
from gleaner.core.metrics.verdicts import oriented
from gleaner.core.models.base.registry import GROUPS
from gleaner.jobs.worker.memory import PeakMemory
from gleaner.library.comparing import RememberingListener

MEASURED = Path(__file__).parent.parent / "docs" / "measured_networks.json"
RATE, PENALTY = {"between": [0.0003, 0.02], "log": True}, {"between": [1e-5, 1e-2], "log": True}
RANKS, NARROW = {"choose": [16, 32, 64, 128]}, {"choose": [8, 16, 32]}
RANGES: dict[str, dict[str, Any]] = {
    "als": {"rank": RANKS, "regularisation": {"between": [0.003, 0.3], "log": True}},
    "item_linear": {"regularisation": {"between": [5, 2000], "log": True}, "dropout": {"between": [0, 0.8]}},
    "item_knn": {"neighbours": {"choose": [25, 50, 100, 200]}, "weighting": {"choose": ["binary", "bm25", "tfidf"]}},
    "two_towers": {"rank": RANKS, "learning_rate": RATE, "regularisation": PENALTY},
    "denoising_autoencoder": {"rank": RANKS, "dropout": {"between": [0.2, 0.8]}, "learning_rate": RATE},
    "graph_convolution": {"rank": RANKS, "layers": {"choose": [1, 2, 3]}, "learning_rate": RATE},
    "boltzmann": {"rank": RANKS, "learning_rate": RATE},
    "variational_autoencoder": {"rank": RANKS, "dropout": {"between": [0.2, 0.8]}, "learning_rate": RATE},
    "self_attention": {"rank": RANKS, "dropout": {"between": [0.2, 0.8]}, "learning_rate": RATE},
    "deep_fm": {"rank": NARROW, "learning_rate": RATE, "regularisation": PENALTY},
    "wide_deep": {"rank": NARROW, "learning_rate": RATE, "regularisation": PENALTY},
    "interaction_network": {"rank": NARROW, "learning_rate": RATE, "regularisation": PENALTY},
    "als_values": {"rank": {"choose": [2, 4, 8, 16]}, "regularisation": {"between": [0.02, 0.5], "log": True}},
    "fm_values": {"rank": {"choose": [4, 8, 16]}},
    "deep_fm_values": {"rank": NARROW, "learning_rate": RATE, "regularisation": PENALTY},
    "wide_deep_values": {"rank": NARROW, "learning_rate": RATE, "regularisation": PENALTY},
    "graph_values": {"rank": NARROW, "layers": {"choose": [1, 2, 3]}, "learning_rate": RATE},
    "boltzmann_values": {"rank": NARROW, "learning_rate": RATE},
}
OF_VALUES = [name for name in RANGES if name.endswith("_values")]
NETWORKS = GROUPS["neural"]
NO_TABLES = TableFrames(None, None)
SEED = 1


@dataclass(frozen=True, eq=False)
class OpenSet:
    """One set to compare on: its parts, its tables, the metric, and the families that fit it."""

    name: str
    parts: Any
    metric: str
    families: list[str]
    frames: TableFrames


class MeasuringListener(RememberingListener):
    """Also measures the memory that a fit takes of its own."""

    def memory(self) -> Callable[[], float]:
        """From now on."""
        return PeakMemory().megabytes


def world_set(name: str) -> OpenSet:
    """A simulated world, divided in time as the demo is."""
    rows, world = rows_of(name)
    parts = gl.split(rows, by="time", kinds=KINDS, min_user=5, min_item=5)
    tables = TableFrames(world.items.rename({"variety": "id"}), world.users.rename({"grower": "id"}))
    return OpenSet(name, parts, "ndcg@10", [each for each in RANGES if each not in OF_VALUES], tables)


def basket_set(path: Path, users: int = 4000) -> OpenSet:
    """Some thousand shoppers of four months, drawn by the seed, divided in time."""
    frame = pl.read_csv(path, infer_schema=False)
    frame = frame.rename({name: name.lstrip("\ufeff").strip('"') for name in frame.columns})
    frame = frame.select("CUSTOMER_ID", "PRODUCT_ID", at=pl.col("TRANSACTION_DT").str.to_datetime("%m/%d/%Y"))
    drawn = frame["CUSTOMER_ID"].unique().sort().sample(users, seed=SEED)
    frame = frame.filter(pl.col("CUSTOMER_ID").is_in(drawn.implode()))
    rows = gl.interactions(frame, user="CUSTOMER_ID", item="PRODUCT_ID", time="at")
    parts = gl.split(rows, by="time", min_user=5, min_item=10)
    families = [each for each in RANGES if each not in OF_VALUES]
    return OpenSet("open baskets", parts, "ndcg@10", families, NO_TABLES)


def rating_set(path: Path) -> OpenSet:
    """Ratings with four columns of context, a tenth held out at random."""
    context = ["studage", "lectage", "service", "dept"]
    frame = pl.read_csv(path, schema_overrides=dict.fromkeys(["s", "d", *context], pl.String))
    rows = gl.interactions(frame, user="s", item="d", value="y", scale=(1, 5), context=context)
    parts = gl.split(rows, by="rows", use="values", merge="mean", seed=SEED)
    return OpenSet("open ratings", parts, "rmse", OF_VALUES, NO_TABLES)


def compared(given: OpenSet, seconds: float) -> dict[str, Any]:
    """Figures of every family with defaults, and tuned for so many seconds."""
    reference = MetricReference.parse(given.metric)
    contenders = [Contender(reference.metric.baseline, reference.metric.baseline)]
    for name in given.families:
        search = gl.tuned(name, attempts=30, minutes=seconds / 60, prune=False, **RANGES[name])
        contenders += [Contender(name, name), Contender(f"{name}, tuned", name, search.params, search=search.search)]
    plan = ContestPlan(contenders, [reference.name], [reference.k or 10], reference, SEED)
    listener = MeasuringListener(None, time.perf_counter)
    listener.progress = _Told(given.name)
    outcome = run_contest(Contest.of(plan, given.parts.parts, SideTables(lambda: given.frames), listener))
    results = {each.contender.label: each for each in listener.results}
    train = given.parts.whole
    return {
        "about": {"users": train.shape[0], "items": train.shape[1], "cells": train.n_cells, "metric": given.metric},
        "seconds": seconds,
        "figures": {label: _figures(each, given.metric, listener) for label, each in results.items()},
        "verdict": _verdict(results, reference, outcome),
    }


class _Told:
    """Says what is being done, once for each contender."""

    def __init__(self, name: str) -> None:
        self._name, self._last = name, ""

    def __call__(self, done: float, message: str) -> bool:
        label = message.partition(":")[0]
        if label != self._last:
            self._last = label
            print(f"{self._name}: {done:.0%} {label}", flush=True)
        return True


def _figures(result: ContenderResult, metric: str, listener: RememberingListener) -> dict[str, Any]:
    test, validation = result.figure(metric), result.figure(metric, "validation")
    assert test is not None
    assert validation is not None
    tried = listener.tried.get(result.contender.label, [])
    return {
        "family": result.contender.family,
        "test": test.mean,
        "low": test.low,
        "high": test.high,
        "validation": validation.mean,
        "seconds": round(result.fit_seconds, 2),
        "memory_mb": round(result.fit_memory_mb),
        "attempts": len(tried),
        "params": result.model.params(),
    }


def _verdict(
    results: dict[str, ContenderResult], reference: MetricReference, outcome: ContestOutcome
) -> dict[str, Any]:
    """The network that is best on validation against the plain model that is, on the test part."""
    best = {}
    for sort, wanted in (("network", True), ("plain", False)):
        some = {label: each for label, each in results.items() if (each.contender.family in NETWORKS) == wanted}

        def figure(label: str, among: dict[str, ContenderResult] = some) -> float:
            found = among[label].figure(reference.label, "validation")
            return reference.sign * (found.mean if found is not None else float("-inf"))

        best[sort] = max(some, key=figure)
    assert outcome.comparison is not None
    gap = oriented(outcome.comparison.pairs, best["network"], best["plain"])
    return best | {"difference": gap.mean, "low": gap.low, "high": gap.high, "verdict": gap.verdict}


def main() -> None:
    """Measure."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--worlds", nargs="*", default=["demo", "dense", "sparse", "wide"])
    parser.add_argument("--baskets", type=Path)
    parser.add_argument("--ratings", type=Path)
    parser.add_argument("--seconds", type=float, default=30.0, help="of tuning, for each family")
    given = parser.parse_args()
    sets: list[Callable[[], OpenSet]] = [partial(world_set, name) for name in given.worlds]
    sets += [partial(basket_set, given.baskets)] if given.baskets else []
    sets += [partial(rating_set, given.ratings)] if given.ratings else []
    for make in sets:
        each = make()
        measured = compared(each, given.seconds)
        known = json.loads(MEASURED.read_text()) if MEASURED.exists() else {}
        MEASURED.write_text(json.dumps(known | {each.name: measured}, indent=1) + "\n")


if __name__ == "__main__":
    main()
