"""Every metric by name: what it says, where its formula is from, which way is better."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

from gleaner.core.errors import ParameterError, near

Needs = Literal["", "content", "categories", "values"]
Better = Literal["higher", "lower", "neither"]


@dataclass(frozen=True)
class Metric:
    """One metric.

    at_k: it is read at cut-offs and written `name@k`. per_user: it has a figure for each user, of which the mean is
    told with its interval; otherwise one figure for all lists together. better: the way that is better, if either is.
    needs: what the contest must name for it.
    """

    name: str
    definition: str
    source: str = ""
    at_k: bool = True
    per_user: bool = True
    better: Better = "higher"
    needs: Needs = ""


def _known(*metrics: Metric) -> dict[str, Metric]:
    return {metric.name: metric for metric in metrics}


RANKING = _known(
    Metric(
        "ndcg",
        "sum of 1/log2(1+place) over hits in the first k, over the best such sum possible",
        "Jarvelin, Kekalainen 2002, binary gains",
    ),
    Metric(
        "ndcg_graded",
        "as ndcg, each hit multiplied by its gain: the item's highest held-out weight, or 1 + value - lowest value",
        "Jarvelin, Kekalainen 2002, linear gains",
    ),
    Metric("recall", "relevant items in the first k, over all relevant items of the user"),
    Metric("precision", "relevant items in the first k, over k"),
    Metric(
        "map",
        "precision at every hit in the first k, summed, over the most hits possible",
        "Buckley, Voorhees 2000, cut at k",
    ),
    Metric("mrr", "one over the place of the first hit in the first k, 0 without one", "Voorhees 1999"),
    Metric("hit", "1 if any of the first k is relevant, else 0"),
)
ORDER = _known(
    Metric(
        "auc",
        "share of (relevant, other) pairs of candidates of which the relevant one stands first",
        "Hanley, McNeil 1982; per user as in Rendle et al. 2009",
        at_k=False,
    ),
    Metric(
        "percentile_rank",
        "mean over relevant items of (place - 1) / (candidates - 1), the whole catalogue in order: 0 first, 1 last",
        "Hu, Koren, Volinsky 2008; every relevant item and every user counts the same",
        at_k=False,
        better="lower",
    ),
)
LISTS = _known(
    Metric("popularity", "mean number of training users of the first k items", better="neither"),
    Metric(
        "novelty",
        "mean of -log2(users of the item / users) over the first k; an item nobody has counts as one user's",
        "self-information; Vargas, Castells 2011",
    ),
    Metric(
        "diversity",
        "1 less the mean cosine of all pairs in the first k, by the content columns",
        "intra-list distance; Vargas, Castells 2011",
        needs="content",
    ),
    Metric(
        "diversity_seen",
        "1 less the mean cosine of all pairs in the first k, by the users who have them in training",
        "intra-list distance; Vargas, Castells 2011",
    ),
    Metric(
        "calibration",
        "divergence of the list's categories from the history's: sum of p log2(p / (0.99 q + 0.01 p))",
        "Steck 2018",
        better="lower",
        needs="categories",
    ),
    Metric("user_coverage", "share of users whose list has k items"),
    Metric("coverage", "distinct items in the first k of all lists, over the catalogue", per_user=False),
    Metric(
        "gini",
        "Gini coefficient of how often each item of the catalogue stands in a first k: 0 all alike, 1 one item only",
        per_user=False,
        better="lower",
    ),
    Metric(
        "personalisation",
        "1 less the mean overlap, over k, of the first k of all pairs of users",
        per_user=False,
    ),
)
VALUES = _known(
    Metric(
        "rmse",
        "square root of the mean squared error of predicted values, all held-out values together",
        at_k=False,
        better="lower",
        needs="values",
    ),
    Metric(
        "mae",
        "mean absolute error of predicted values, all held-out values together",
        at_k=False,
        better="lower",
        needs="values",
    ),
    Metric(
        "r2",
        "1 less the sum of squared errors over that of squared distances from the mean of the held-out values",
        at_k=False,
        per_user=False,
        needs="values",
    ),
)
METRICS: dict[str, Metric] = RANKING | ORDER | LISTS | VALUES


def require_metric(name: str) -> Metric:
    """The metric of this name. Raises ParameterError listing what there is."""
    if name not in METRICS:
        raise ParameterError(f"there is no metric {name!r}{near(name, METRICS)}", where="rank.metrics")
    return METRICS[name]


def split_name(label: str) -> tuple[str, int | None]:
    """("ndcg", 10) of "ndcg@10", ("auc", None) of "auc"."""
    name, _, k = label.partition("@")
    return name, int(k) if k.isdigit() else None


def labels(names: list[str], cutoffs: list[int], wanted: Callable[[Metric], bool] = lambda metric: True) -> list[str]:
    """`name@k` for every metric and cut-off, `name` for metrics without one, in the order of `names`."""
    found = []
    for metric in map(require_metric, names):
        if wanted(metric):
            found += [f"{metric.name}@{k}" for k in cutoffs] if metric.at_k else [metric.name]
    return found


def better_sign(label: str) -> int:
    """1 where more is better, -1 where less is, 0 where neither."""
    return {"higher": 1, "lower": -1, "neither": 0}[require_metric(split_name(label)[0]).better]
