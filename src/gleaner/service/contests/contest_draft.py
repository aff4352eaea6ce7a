"""A contest file to begin with, fitted to what a dataset has."""

from __future__ import annotations

import json
from math import sqrt

from gleaner.store.records.datasets import VersionRecord
from gleaner.wire.contests.runs import ContestDraft

RANKS = (16, 32, 64)
BUDGET = "# parameters with a range are tuned on validation, with so many attempts for each contender"
DATED_ROWS = 1_000
PRUNE_ROWS = 5_000


def draft(version: VersionRecord) -> ContestDraft:
    """A file that runs as it is, with a comment at every choice that was made."""
    rated = _is_rated(version)
    lines = [
        f"# A contest on {version.name}: {version.rows:,} rows, {version.users:,} users, {version.items:,} items.",
        "# `gleaner contest check FILE` shows mistakes and what it will take; `gleaner contest run FILE` runs it.",
        f"contest: {version.dataset[:50]}-first",
        f"data: {version.name}",
        *_prepare(version, rated=rated),
        *_split(version),
        *_rank(version, rated=rated),
        *_contenders(version, rated=rated),
        *(() if rated else (BUDGET, "tune: {attempts: 12}")),
        "# curves: {every: 3, amounts: [0.25, 0.5]}  # learning curves, by iteration and by amount of data",
        "seed: 1  # of random choices, ties and resamples: the same file gives the same figures",
    ]
    return ContestDraft(file="\n".join(lines) + "\n")


def _is_rated(version: VersionRecord) -> bool:
    """Whether rows are ratings: without kinds, and every other row at least has a value."""
    values, kinds = version.profile.values, version.profile.kinds
    return values is not None and len(kinds or []) < 2 and 2 * values.n >= version.rows


def _prepare(version: VersionRecord, *, rated: bool) -> list[str]:
    lines = ["prepare:"]
    kinds = [count for count in version.profile.kinds or [] if count.kind is not None]
    if kinds:
        most = max(count.rows for count in kinds)
        lines.append("  kinds:  # what each kind is worth: here by how rare it is; kinds you take out are dropped")
        lines += [f"    {_quoted(each.kind)}: {max(1, round(sqrt(most / each.rows)))}" for each in kinds]
    if rated:
        lines.append("  use: values  # rows are ratings; `like_from: 4` would make likes of them instead")
    usual = "mean" if rated else "sum"
    lines.append(f"  merge: {usual}  # repeats of one user and item: sum, count, max, mean or latest")
    few = version.rows < PRUNE_ROWS
    lines.append(f"  min_user: {1 if few else 5}  # prune users with fewer items, until stable")
    lines.append(f"  min_item: {1 if few else 5}")
    return lines


def _split(version: VersionRecord) -> list[str]:
    if version.profile.span is not None and version.rows >= DATED_ROWS:
        return [
            "# the last tenth of rows is the test, the tenth before chooses: what serving will meet",
            "split: {by: time, test: 0.1, validation: 0.1}",
        ]
    return ["# a share of each user's rows", "split: {by: user_rows, test: 0.2, validation: 0.2}"]


def _rank(version: VersionRecord, *, rated: bool) -> list[str]:
    groups = next((column.name for column in version.item_columns if column.type in ("category", "categories")), None)
    at = [k for k in (5, 10, 20) if k <= version.items] or [1]
    metrics = ["ndcg", "recall", "precision", "mrr", "auc", "novelty", "coverage"]
    lines = ["rank:", f"  at: {at}".replace("'", "")]
    if groups:
        metrics += ["diversity", "calibration"]
    lines.append(f"  metrics: [{', '.join(metrics)}]")
    lines.append(f"  decide_by: ndcg@{at[min(1, len(at) - 1)]}")
    if groups:
        lines.append(f"  content: [{_quoted(groups)}]  # item columns that diversity compares")
        lines.append(f"  categories: {_quoted(groups)}  # the item column that calibration counts")
    if rated:
        lines.append("  relevant: {above_own_mean: true}  # held-out items rated above the user's mean")
    return lines


def _contenders(version: VersionRecord, *, rated: bool) -> list[str]:
    named = ["popular  # the baseline; it is always among them"]
    if rated:
        named += ["mean_value", "item_knn_values", "als_values", "item_linear"]
    else:
        carried = min(version.users, version.items) // 2
        ranks = [rank for rank in RANKS if rank <= carried] or [max(1, carried)]
        tuned = f"als: {{rank: {{choose: {ranks}}}, regularisation: {{between: [0.003, 0.3], log: true}}}}"
        named += ["item_knn", "item_linear", tuned, "bpr"]
    lines = ["contenders:", *[f"  - {each}" for each in named]]
    if not rated and any(column.name != "id" for column in [*version.item_columns, *version.user_columns]):
        lines += ["  # what the columns of the tables add, as a paired difference:",
                  "  # - feature_sum: {rank: 16}", "  #   without: [features]"]  # fmt: skip
    return lines


def _quoted(text: str | None) -> str:
    # JSON is YAML: whatever is in a name is written so that it is read again
    return json.dumps(text, ensure_ascii=False)
