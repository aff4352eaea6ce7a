"""What columns and context are worth: two simulated worlds, one in which they decide and one in which they say nothing.

`python -m bench.column_worlds` measures and writes docs/measured_columns.json, from which docs/methods.md is made.
"""

from __future__ import annotations

import hashlib
import json
from typing import Any

import numpy as np
import polars as pl

import gleaner.library as gl
from bench.quality import ROOT, code_version

MEASURED = ROOT / "docs" / "measured_columns.json"
N_USERS, N_ITEMS, N_ROWS, SEED = 2500, 400, 12_000, 41
ZONES, FAMILIES, PLACES = 6, 8, 3
WORLDS = {"told by columns and context": 1.0, "told by neither": 0.0}
"""How much zone, family and place say of what is taken. Users have few rows: where they have many, what their columns
say shows in these too."""
METRIC = "ndcg@10"
NO_COLUMNS: dict[str, Any] = {"item_columns": [], "user_columns": []}
CONTENDERS: dict[str, tuple[str, dict[str, Any]]] = {
    "logistic": ("logistic", {"rank": 16}),
    "user_content": ("user_content", {}),
    "feature_sum": ("feature_sum", {"rank": 16}),
    "feature_sum, no columns": ("feature_sum", {"rank": 16} | NO_COLUMNS),
    "fm_ranking": ("fm_ranking", {"rank": 16}),
    "fm_ranking, no context": ("fm_ranking", {"rank": 16, "context_columns": []}),
    "fm_ranking, no columns": ("fm_ranking", {"rank": 16} | NO_COLUMNS),
    "fm_ranking, field-aware": ("fm_ranking", {"rank": 4, "field_aware": True}),
}
STAGES: dict[str, Any] = {"folds": 2, "rounds": 60, "candidates": 100}
FIRST: list[Any] = ["user_content", "popular"]
CONTENDERS |= {
    "second_stage": ("second_stage", STAGES | {"members": [{"fm_ranking": {"rank": 16}}, *FIRST]}),
    "second_stage, no context": (
        "second_stage",
        STAGES | {"members": [{"fm_ranking": {"rank": 16, "context_columns": []}}, *FIRST], "context_columns": []},
    ),
}
PAIRS = [
    ("user_content", "popular"),
    ("feature_sum", "feature_sum, no columns"),
    ("fm_ranking", "fm_ranking, no columns"),
    ("fm_ranking", "fm_ranking, no context"),
    ("fm_ranking", "logistic"),
    ("second_stage", "fm_ranking"),
    ("second_stage", "second_stage, no context"),
]
"""Each with, and without."""


def world(told: float, seed: int = SEED) -> tuple[pl.DataFrame, pl.DataFrame, pl.DataFrame]:
    """Events, varieties and growers. told: how much of what is taken depends on zone, family and place; the rest is
    taste that no column knows."""
    draw = np.random.default_rng(seed)
    zone, family = draw.integers(0, ZONES, N_USERS), draw.integers(0, FAMILIES, N_ITEMS)
    meets, place_meets = draw.normal(size=(ZONES, FAMILIES)), draw.normal(size=(PLACES, N_ITEMS))
    tastes, traits = draw.normal(size=(N_USERS, 6)), draw.normal(size=(N_ITEMS, 6))
    popular = 0.7 * draw.normal(size=N_ITEMS)
    user = draw.choice(N_USERS, N_ROWS, p=draw.dirichlet(np.full(N_USERS, 1.5)))
    place = draw.integers(0, PLACES, N_ROWS)
    item = np.empty(N_ROWS, np.int64)
    for row in range(N_ROWS):
        u = user[row]
        liking = popular + 0.45 * (traits @ tastes[u])
        liking += told * (1.6 * meets[zone[u], family] + 1.6 * place_meets[place[row]])
        item[row] = np.argmax(liking + draw.gumbel(size=N_ITEMS))
    events = pl.DataFrame(
        {
            "grower": [f"g-{n}" for n in user],
            "variety": [f"v-{n}" for n in item],
            "place": [("stall", "kitchen", "field")[n] for n in place],
        }
    )
    varieties = pl.DataFrame({"id": [f"v-{n}" for n in range(N_ITEMS)], "family": [f"family {n}" for n in family]})
    growers = pl.DataFrame({"id": [f"g-{n}" for n in range(N_USERS)], "zone": [f"zone {n}" for n in zone]})
    return events, varieties, growers


def data_hash(events: pl.DataFrame) -> str:
    """A digest of the events, in their order."""
    return hashlib.sha256(events.write_csv().encode()).hexdigest()[:16]


def measure(told: float) -> dict[str, Any]:
    """Figures of every contender on one world, and the paired differences of PAIRS."""
    events, varieties, growers = world(told)
    rows = gl.interactions(events, user="grower", item="variety", context=["place"])
    parts = gl.split(rows, by="rows", test=0.15, validation=0.15, seed=1)
    contenders = {label: gl.model(family, **params) for label, (family, params) in CONTENDERS.items()}
    result = gl.compare(parts, contenders, metric=METRIC, items=varieties, users=growers, progress=False)
    about = {
        "users": parts.whole.shape[0],
        "items": parts.whole.shape[1],
        "cells": parts.whole.n_cells,
        "judged": len(parts.test.user_rows),
        "data": data_hash(events),
        "code": code_version(),
    }
    figures = {
        row["contender"]: {name: row[name] for name in ("test", "low", "high", "seconds")}
        for row in result.table.iter_rows(named=True)
    }
    return {"about": about, "figures": figures, "pairs": [_pair(result, *pair) for pair in PAIRS]}


def _pair(result: gl.ContestResult, whole: str, without: str) -> dict[str, Any]:
    """One paired difference, the sign as of the one with the part."""
    [pair] = result.pairs.filter(
        pl.col("first").is_in([whole, without]), pl.col("second").is_in([whole, without])
    ).iter_rows(named=True)
    sign = 1 if pair["first"] == whole else -1
    ends = sorted((sign * pair["low"], sign * pair["high"]))
    sure = pair["p_holm"] < 0.05
    verdict = "cannot tell" if not sure else "better" if sign * pair["mean"] > 0 else "worse"
    return {"with": whole, "without": without, "difference": sign * pair["mean"], "low": ends[0], "high": ends[1],
            "verdict": verdict}  # fmt: skip


def main() -> None:
    """Measure, and keep it."""
    measured = {name: measure(told) for name, told in WORLDS.items()}
    MEASURED.write_text(json.dumps(measured, indent=1) + "\n")
    for name, each in measured.items():
        print(name, each["about"])
        for label, figures in each["figures"].items():
            print(f"  {label:26} {figures['test']:.4f} ({figures['low']:.4f} to {figures['high']:.4f})")
        for pair in each["pairs"]:
            print(f"  {pair['with']} against {pair['without']}: {pair['difference']:+.4f} {pair['verdict']}")


if __name__ == "__main__":
    main()
