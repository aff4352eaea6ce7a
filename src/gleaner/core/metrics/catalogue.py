"""Every metric by name: what it says, where its formula is from, which way is better; and how one is written, with its
cut-off."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Literal

from gleaner.core.errors import ParameterError, near

Needs = Literal["", "content", "categories", "values"]
Better = Literal["higher", "lower", "neither"]
Sort = Literal["ranking", "order", "lists", "values", "likelihood"]


@dataclass(frozen=True)
class Metric:
    """One metric.

    at_k: it is read at cut-offs and written `name@k`. per_user: it has a figure for each user, whose mean is reported
    with its interval; otherwise one figure for all lists together. better: the way that is better, if either is.
    needs: what the contest must name for it. sort: what it looks at: which of the first k are relevant (`ranking`), the
    order of the whole catalogue (`order`), the lists without the truth (`lists`), predicted values (`values`), or the
    chance that an item is taken (`likelihood`).
    """

    name: str
    definition: str
    source: str = ""
    sort: Sort = "ranking"
    at_k: bool = True
    per_user: bool = True
    better: Better = "higher"
    needs: Needs = ""

    @property
    def sign(self) -> int:
        """1 where more is better, -1 where less is, 0 where neither."""
        return {"higher": 1, "lower": -1, "neither": 0}[self.better]

    @property
    def baseline(self) -> str:
        """The family that others are compared with on this metric."""
        return "mean_value" if self.sort == "values" else "popular"


def _known(sort: Sort, *metrics: Metric) -> dict[str, Metric]:
    return {metric.name: replace(metric, sort=sort) for metric in metrics}


RANKING = _known(
    "ranking",
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
    "order",
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
    "lists",
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
    "values",
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
LIKELIHOOD = _known(
    "likelihood",
    Metric(
        "brier",
        "mean squared distance of the chance from what happened, 1 or 0, over all items that the user lacks",
        "Brier 1950; calibrated on validation",
        at_k=False,
        better="lower",
    ),
    Metric(
        "log_loss",
        "mean of -log of the chance of what happened, over all items that the user lacks",
        "calibrated on validation",
        at_k=False,
        better="lower",
    ),
)
METRICS: dict[str, Metric] = RANKING | ORDER | LISTS | VALUES | LIKELIHOOD


@dataclass(frozen=True)
class MetricReference:
    """A metric as it is written: `ndcg@10` with its cut-off, `auc` where there is none."""

    metric: Metric
    k: int | None = None

    @classmethod
    def parse(cls, label: str) -> MetricReference:
        """Read `ndcg@10` or `auc`. Raises ParameterError on a metric that is not there, and on a cut-off that is
        missing, below 1, or given to a metric that has none."""
        name, at, k = label.partition("@")
        metric = require_metric(name)
        if not metric.at_k:
            if at:
                raise ParameterError(f"{name} is not read at a cut-off, so it is written {name}, not {label!r}")
            return cls(metric)
        if not (k.isascii() and k.isdigit()) or int(k) < 1:
            raise ParameterError(f"{name} is read at a cut-off of at least 1, as in {name}@10, not {label!r}")
        return cls(metric, int(k))

    @property
    def label(self) -> str:
        """How it is written."""
        return self.metric.name if self.k is None else f"{self.metric.name}@{self.k}"

    @property
    def name(self) -> str:
        """The name of the metric."""
        return self.metric.name

    @property
    def sign(self) -> int:
        """1 where more is better, -1 where less is, 0 where neither."""
        return self.metric.sign

    @property
    def of_values(self) -> bool:
        """Whether it looks at predicted values, and not at lists."""
        return self.metric.sort == "values"


def require_metric(name: str) -> Metric:
    """The metric of this name. Raises ParameterError naming the nearest there is."""
    if name not in METRICS:
        raise ParameterError(f"there is no metric {name!r}{near(name, METRICS)}", where="rank.metrics")
    return METRICS[name]


def labels(names: Iterable[str], cutoffs: Iterable[int]) -> list[str]:
    """`name@k` for every metric and cut-off, `name` for metrics without one, in the order of `names`. A name that is
    not there is labelled like most: whoever uses it gets the error."""
    return [
        label
        for name in names
        for label in ([f"{name}@{k}" for k in cutoffs] if name not in METRICS or METRICS[name].at_k else [name])
    ]


def metric_of(label: str) -> Metric | None:
    """The metric of a label such as `ndcg@10`; None where there is none of that name."""
    return METRICS.get(label.partition("@")[0])


def any_of_values(names: Iterable[str]) -> bool:
    """Whether any of these metrics looks at predicted values."""
    return any(name in VALUES for name in names)


def better_sign(label: str) -> int:
    """1 where more is better, -1 where less is, 0 where neither. Raises ParameterError."""
    return require_metric(label.partition("@")[0]).sign
