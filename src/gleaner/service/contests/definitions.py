"""What a leaderboard's figures mean, in words that go wherever the figures go."""

from __future__ import annotations

from gleaner.core.metrics.catalogue import METRICS
from gleaner.core.metrics.statistics import RESAMPLES
from gleaner.wire.contests.runs import Run


def definitions_of(run: Run) -> dict[str, str]:
    """Each metric's formula, then the candidate set, the users counted, ties and intervals."""
    metrics = [METRICS[name] for name in run.spec.rank.metrics if name in METRICS]
    formulas = {f"{metric.name}@k" if metric.at_k else metric.name: metric.definition for metric in metrics}
    test = next((part for part in run.parts if part.part == "test"), None)
    counted = f"{test.users_counted:,}" if test and test.users_counted is not None else "the"
    by = run.spec.split.by
    own = "the items shown of the user" if by == "users" else "the user's own training items"
    keep = run.spec.split.keep
    seen = "" if by == "items" or "items" in keep else " that training has seen"
    users = f"mean over {counted} users of the test part with at least one relevant item{seen}"
    if by == "users":
        users += "; none of them was in training, each is folded in from the rows shown"
    if "users" in keep:
        users += "; those whom training never saw are known by their columns alone, where a model looks at any"
    if by == "folds":
        users = "mean over users with a relevant item in any fold, each user's mean over the folds first"
    relevant = f"items the user touched in the held-out part and not in training, of the kinds kept{_threshold(run)}"
    return formulas | {
        "candidates": _candidates(by, own, new_items="items" in keep),
        "users": users,
        "relevant": relevant,
        "ties": f"equal scores are ordered by a hash of the item id with seed {run.spec.seed}",
        "interval": f"95 %, percentile bootstrap over users, {RESAMPLES} resamples, seed {run.spec.seed}",
        "against popular": "paired difference per user on the deciding metric; 'cannot tell' unless the p of a paired "
        "t-test, corrected for all pairs of contenders (Holm 1979), is below 0.05",
        "winner": "best on validation where there is a validation part, so that the test part chooses nothing",
    }


def _candidates(by: str, own: str, *, new_items: bool) -> str:
    if by == "items":
        return "the items held out, and no others: a model that does not look at columns orders them by chance"
    new = ", and those of the part that training never saw" if new_items else ""
    return f"the full catalogue: every item of the training part{new}, less {own}"


def _threshold(run: Run) -> str:
    relevant = run.spec.rank.relevant
    sentence = ""
    if relevant.at_least is not None:
        sentence += f", with a value of at least {relevant.at_least:g}"
    if relevant.above_own_mean:
        sentence += ", with a value above the mean of what training knows of the user"
    return sentence
