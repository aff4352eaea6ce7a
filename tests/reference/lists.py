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
    result, total = 0, 0.0
    for place, item in enumerate(ranked[:k], start=1):
        if item in relevant:
            result += 1
            total += result / place
    return total / min(k, len(relevant))


def reciprocal_rank(ranked, relevant, k):
    for place, item in enumerate(ranked[:k], start=1):
        if item in relevant:
            return 1 / place
    return 0.0


def ndcg_graded(ranked, gains, k):
    """gains: {item: gain} of the relevant items."""
    gained = sum(gains.get(item, 0) / math.log2(place + 1) for place, item in enumerate(ranked[:k], start=1))
    best = sorted(gains.values(), reverse=True)[:k]
    return gained / sum(gain / math.log2(place + 1) for place, gain in enumerate(best, start=1))


def auc(ranked, relevant):
    """Over all candidates in order: pairs of a relevant and another item in the right order."""
    others = [item for item in ranked if item not in relevant]
    right = sum(ranked.index(r) < ranked.index(o) for r in relevant for o in others)
    return right / (len(relevant) * len(others))


def percentile_rank(ranked, relevant):
    return sum(ranked.index(item) / (len(ranked) - 1) for item in relevant) / len(relevant)


def cosine(one, two):
    """Of two {feature: value}."""
    lengths = [math.sqrt(sum(value * value for value in each.values())) for each in (one, two)]
    if not all(lengths):
        return 0.0
    return sum(value * two.get(name, 0) for name, value in one.items()) / (lengths[0] * lengths[1])


def spread(ranked, vectors, k):
    """1 less the mean cosine of all pairs; None without a pair."""
    pairs = [(a, b) for at, a in enumerate(ranked[:k]) for b in ranked[:k][at + 1 :]]
    if not pairs:
        return None
    return 1 - sum(cosine(vectors[a], vectors[b]) for a, b in pairs) / len(pairs)


def divergence(ranked, history, groups, k, blend=0.01):
    """groups: {item: {group: share}}, shares adding up to 1 or empty. None where either side has no group."""
    sides = []
    for items in (history, ranked[:k]):
        total = {}
        for item in items:
            for group, share in groups[item].items():
                total[group] = total.get(group, 0) + share
        if not total:
            return None
        sides.append({group: share / sum(total.values()) for group, share in total.items()})
    p, q = sides
    return sum(mine * math.log2(mine / ((1 - blend) * q.get(group, 0) + blend * mine)) for group, mine in p.items())


def personalisation(lists, k):
    overlaps = [len(set(a[:k]) & set(b[:k])) / k for at, a in enumerate(lists) for b in lists[at + 1 :]]
    return 1 - sum(overlaps) / len(overlaps)


def holm(chances):
    """Step by step, from the smallest."""
    left, result, floor = sorted(range(len(chances)), key=lambda at: chances[at]), [0.0] * len(chances), 0.0
    while left:
        floor = max(floor, min(1.0, chances[left[0]] * len(left)))
        result[left.pop(0)] = floor
    return result


METRICS = {
    "ndcg": ndcg, "recall": recall, "precision": precision, "hit": hit, "map": average_precision, "mrr": reciprocal_rank,
}  # fmt: skip


def merge(rows, how):
    """{(user, item): figure} of (user, item, measure, time) rows in file order."""
    groups = {}
    for user, item, measure, time in rows:
        groups.setdefault((user, item), []).append((measure, time))
    result = {}
    for pair, values in groups.items():
        measures = [measure for measure, _ in values]
        if how == "latest":
            newest = max(time for _, time in values)
            result[pair] = [measure for measure, time in values if time == newest][-1]
        else:
            result[pair] = {
                "sum": sum(measures), "count": len(measures), "max": max(measures), "mean": sum(measures) / len(measures),
            }[how]  # fmt: skip
    return result


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
