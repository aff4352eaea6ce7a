"""Sorting and counting, place by place."""

from __future__ import annotations

import math


def top_n(scores, tie_order, n, excluded=()):
    """Items by falling score, then by tie order; those excluded left out."""
    items = [i for i in range(len(scores)) if i not in set(excluded) and scores[i] > -math.inf]
    return sorted(items, key=lambda i: (-scores[i], tie_order[i]))[:n]


def ndcg(ranked, relevant, k):
    gained = sum(1 / math.log2(place + 1) for place, item in enumerate(ranked[:k], start=1) if item in relevant)
    best = sum(1 / math.log2(place + 1) for place in range(1, min(k, len(relevant)) + 1))
    return gained / best


def recall(ranked, relevant, k):
    return len([item for item in ranked[:k] if item in relevant]) / len(relevant)


def precision(ranked, relevant, k):
    return len([item for item in ranked[:k] if item in relevant]) / k


def hit(ranked, relevant, k):
    return 1.0 if any(item in relevant for item in ranked[:k]) else 0.0


def average_precision(ranked, relevant, k):
    found, total = 0, 0.0
    for place, item in enumerate(ranked[:k], start=1):
        if item in relevant:
            found += 1
            total += found / place
    return total / min(k, len(relevant))


def reciprocal_rank(ranked, relevant, k):
    for place, item in enumerate(ranked[:k], start=1):
        if item in relevant:
            return 1 / place
    return 0.0


METRICS = {
    "ndcg": ndcg, "recall": recall, "precision": precision, "hit": hit, "map": average_precision, "mrr": reciprocal_rank,
}  # fmt: skip


def merge(rows, how):
    """{(user, item): figure} of (user, item, measure, time) rows in file order."""
    groups = {}
    for user, item, measure, time in rows:
        groups.setdefault((user, item), []).append((measure, time))
    found = {}
    for pair, held in groups.items():
        measures = [measure for measure, _ in held]
        if how == "latest":
            newest = max(time for _, time in held)
            found[pair] = [measure for measure, time in held if time == newest][-1]
        else:
            found[pair] = {
                "sum": sum(measures), "count": len(measures), "max": max(measures), "mean": sum(measures) / len(measures),
            }[how]  # fmt: skip
    return found


def core(pairs, min_user, min_item):
    """Pairs left when users with too few items and items with too few users are taken out again and again."""
    left = set(pairs)
    while True:
        users, items = {}, {}
        for user, item in left:
            users[user] = users.get(user, 0) + 1
            items[item] = items.get(item, 0) + 1
        kept = {(u, i) for u, i in left if users[u] >= min_user and items[i] >= min_item}
        if kept == left:
            return left
        left = kept


def gini(counts):
    """Mean absolute difference over twice the mean."""
    n, total = len(counts), sum(counts)
    return sum(abs(a - b) for a in counts for b in counts) / (2 * n * total)
