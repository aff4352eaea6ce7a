"""Writes the part of docs/methods.md that comes from registry and measurements: `python -m bench.methods_page`."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from gleaner.core.models.base.registry import FAMILIES, groups

DOCS = Path(__file__).parent.parent / "docs"
PAGE, MEASURED = DOCS / "methods.md", DOCS / "measured.json"
HEAD = ("family", "what it does", "source", "feedback", "new users, new items", "cost", "not for")
BEGIN, END = "<!-- made by bench.methods_page: begin -->\n", "<!-- made by bench.methods_page: end -->\n"
COSTS = {
    "popular": "one pass over the cells",
    "trending": "one pass over the cells",
    "mean_value": "one pass over the cells",
    "random": "nothing",
    "item_knn": "sum over users of their squared history length; memory items x neighbours",
    "user_knn": "sum over items of their squared count of users; memory users x neighbours",
    "item_knn_values": "as item_knn, with six sums a pair",
    "user_knn_values": "as user_knn, with six sums a pair",
    "association": "as item_knn",
    "item_linear": "sum of squared history lengths, then about items^3; memory two dense items x items in float64",
    "item_sparse": "the same Gram matrix in float32, then sweeps over items that share users",
    "biases": "two passes over the cells",
    "sgd_values": "per iteration about 8 rank cells",
    "svdpp": "per iteration about 14 rank cells, on one core",
    "als_values": "per iteration rank^2 cells + rank^3 (users + items) / 3, on each side",
    "svd_values": "about 40 rank cells, on one core",
    "nmf_values": "per iteration about 8 rank cells",
    "als": "per iteration about 4 (cg_steps + 1) rank (2 cells + (users + items) rank)",
    "bpr": "per iteration 3 factors read and written a cell",
    "warp": "as bpr, and a product for every draw",
    "logistic": "as bpr, times 1 + negatives",
    "item_content": "a pass over the table; a list costs the features of all items",
    "feature_sum": "per iteration about 25 rank cells draws, of ten features a row, on one core",
    "blend": "the sum of its members",
    "blend_ranks": "the sum of its members, and a sort a user",
}
MEANINGS = {
    "measure": "count `users` of an item, or sum their `value`",
    "kind": "count only users with a row of this kind",
    "window_days": "count only cells whose last row is so close to the end of training",
    "half_life_days": "a cell counts half as much for every so many days before the end of training",
    "recent_days": "what counts as lately",
    "usual_days": "the time before that tells what is usual",
    "prior": "values of the overall mean that are added to each item",
    "neighbours": "nearest kept",
    "similarity": "how likeness is measured: see the model's docstring for the choices",
    "shrinkage": "likeness times n / (n + shrinkage), n in common",
    "asymmetry": "power of the own norm against the neighbour's in the cosine; 0.5 is symmetric",
    "weighting": "cells as `value`, `log` (1 + value), `binary`, and for neighbours `tfidf` or `bm25`",
    "min_common": "fewer in common do not count",
    "min_count": "a rule needs so many users of both",
    "regularisation": "lambda of the objective",
    "dropout": "p: p / (1 - p) of each diagonal entry is added too",
    "l1": "weight of the sum of weights: more of them become 0",
    "l2": "weight of their squares",
    "sweeps": "passes of coordinate descent at most",
    "damping": "count added to every offset's denominator",
    "rank": "length of the factors",
    "learning_rate": "of the first epoch",
    "decay": "the rate of epoch t is learning_rate / (1 + decay (t - 1))",
    "iterations": "passes over the data",
    "init_scale": "spread of the first factors, over the root of the rank",
    "seed": "of every random choice",
    "unobserved_weight": "weight of all unobserved cells together, against that of all observed ones",
    "frequency_scaling": "exponent of (n + a0 x others) in the regularisation",
    "solver": "`cg`, `exact` or `blocks`",
    "cg_steps": "conjugate-gradient steps a row",
    "block": "columns solved at a time by `blocks`",
    "margin": "by how much what a user has should lead",
    "trials": "draws at most",
    "negatives": "draws a cell",
    "loss": "`bpr`, `warp` or `logistic`",
    "item_columns": "columns of the item table to look at; none given: every one that says something",
    "user_columns": "columns of the user table to look at; none given: every one that says something",
    "feature_weight": "length of all columns of a row together, against 1 of its own vector",
    "rarity": "`idf`: rare categories and tags weigh more; `none`",
    "members": "families, or `{family: parameters}`",
    "weights": "one for each member",
    "normalise": "by `deviation`, or to the `range` 0 to 1",
    "offset": "added to every place",
}


def generated() -> str:
    """The tables."""
    return (
        "\n".join(["## Models", "", *_models(), "### Parameters and defaults", "", *_parameters(), *_measured()]) + "\n"
    )


def _models() -> list[str]:
    lines = []
    for group, members in groups().items():
        lines += [f"### {group.capitalize()}", "", f"| {' | '.join(HEAD)} |", "|---" * len(HEAD) + "|"]
        for each in members:
            new = ", ".join("yes" if can else "no" for can in (each.folds_in or not each.personal, each.folds_in_items))
            cells = (each.summary, each.source or "-", each.feedback, new, COSTS[each.family], each.unfit)
            lines.append(f"| `{each.family}` | " + " | ".join(cells) + " |")
        lines.append("")
    return lines


def _parameters() -> list[str]:
    lines = ["| family | parameter | default | meaning |", "|---|---|---|---|"]
    for name, each in FAMILIES.items():
        for parameter, value in each().params().items():
            shown = str(value).removesuffix(".0")
            lines.append(f"| `{name}` | `{parameter}` | {shown} | {MEANINGS[parameter]} |")
    return [*lines, ""]


def _measured() -> list[str]:
    found: dict[str, Any] = json.loads(MEASURED.read_text())
    worlds = list(found)
    about = [found[world]["about"] for world in worlds]
    sizes = "; ".join(
        f"*{world}*: {size['users']:,} users ({size['judged']:,} judged), {size['items']:,} items, "
        f"{size['cells']:,} cells"
        for world, size in zip(worlds, about, strict=True)
    )
    lines = [
        "### Measured with these defaults",
        "",
        "Simulated worlds, split in time as the demo is, on the test part; defaults were chosen on validation parts of "
        "the same worlds (`python -m bench.quality --on validation`). " + sizes + ". In brackets the share of what the "
        "simulator's own truth reaches, the best possible ranking.",
        "",
        "| nDCG@10 | " + " | ".join(worlds) + " |",
        "|---|" + "---|" * len(worlds),
        "| the simulator's truth | " + " | ".join(f"{found[world]['best']['ndcg@10']:.4f}" for world in worlds) + " |",
    ]
    for name in FAMILIES:
        if "ndcg@10" in found[worlds[0]].get(name, {}):
            cells = [_share(found[world], name) for world in worlds]
            lines.append(f"| `{name}` | " + " | ".join(cells) + " |")
    lines += ["", *_errors(found, worlds)]
    return lines


def _share(world: dict[str, Any], name: str) -> str:
    figure = world[name]["ndcg@10"]
    return f"{figure:.4f} ({figure / world['best']['ndcg@10']:.0%})"


def _errors(found: dict[str, Any], worlds: list[str]) -> list[str]:
    counts = ", ".join(f"{found[world]['about']['ratings']:,}" for world in worlds)
    lines = [
        f"Ratings held out at random ({counts} in training), over all pairs: those that a model cannot answer count "
        "with what it falls back on. In brackets the share it could answer.",
        "",
        "| RMSE | " + " | ".join(worlds) + " |",
        "|---|" + "---|" * len(worlds),
    ]
    for name, each in FAMILIES.items():
        if each.predicts_values:
            cells = [f"{found[world][name]['rmse']:.4f} ({found[world][name]['answered']:.0%})" for world in worlds]
            lines.append(f"| `{name}` | " + " | ".join(cells) + " |")
    return [*lines, ""]


def page() -> str:
    """The whole page with its made part made anew."""
    text = PAGE.read_text()
    before, _, rest = text.partition(BEGIN)
    return before + BEGIN + generated() + END + rest.partition(END)[2]


if __name__ == "__main__":
    PAGE.write_text(page())
