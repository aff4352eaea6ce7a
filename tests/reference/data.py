"""Plain-loop twins of preparation, splits, features and overlap."""

from __future__ import annotations

import math


def quantile(values, share):
    """Linear between the two nearest."""
    ordered = sorted(values)
    at = share * (len(ordered) - 1)
    low = math.floor(at)
    high = min(low + 1, len(ordered) - 1)
    return ordered[low] + (ordered[high] - ordered[low]) * (at - low)


def decayed(rows, half_life):
    """rows: (user, item, weight, day). Weights at the last day."""
    last = max(day for *_, day in rows)
    return [(u, i, w * 0.5 ** ((last - day) / half_life), day) for u, i, w, day in rows]


def overlap(rows, one, other):
    """rows: (user, item, value or None). Items of both and of either, Pearson and mean gap over common values."""
    means = {}
    for who in (one, other):
        by_user = {}
        for user, item, value in rows:
            if user == who:
                by_user.setdefault(item, []).append(value)
        means[who] = {
            item: sum(v for v in values if v is not None) / sum(v is not None for v in values)
            if any(v is not None for v in values)
            else None
            for item, values in by_user.items()
        }
    common = sorted(set(means[one]) & set(means[other]))
    pairs = [(means[one][i], means[other][i]) for i in common]
    pairs = [(x, y) for x, y in pairs if x is not None and y is not None]
    gap = sum(abs(x - y) for x, y in pairs) / len(pairs) if pairs else None
    correlation = None
    if len(pairs) >= 3:
        mx, my = sum(x for x, _ in pairs) / len(pairs), sum(y for _, y in pairs) / len(pairs)
        sxy = sum((x - mx) * (y - my) for x, y in pairs)
        sx, sy = sum((x - mx) ** 2 for x, _ in pairs), sum((y - my) ** 2 for _, y in pairs)
        correlation = sxy / math.sqrt(sx * sy) if sx > 0 and sy > 0 else None
    return len(common), len(set(means[one]) | set(means[other])), correlation, gap


def together(rows, item):
    """rows: (user, item). Users shared with every other item, and lift."""
    users = {u for u, _ in rows}
    of = {}
    for user, each in rows:
        of.setdefault(each, set()).add(user)
    result = {}
    for other, holders in of.items():
        shared = len(of[item] & holders)
        if other != item and shared:
            result[other] = (shared, shared * len(users) / (len(of[item]) * len(holders)))
    return result


def tfidf(training, text, min_rows):
    """Word weights of one text, of length one."""
    split = [t.lower().replace(",", " ").split() if t else [] for t in training]
    df = {}
    for words in split:
        for word in set(words):
            df[word] = df.get(word, 0) + 1
    kept = {word: math.log((1 + len(training)) / (1 + n)) + 1 for word, n in df.items() if n >= min_rows}
    weights = {}
    for word in text.lower().replace(",", " ").split():
        if word in kept:
            weights[word] = weights.get(word, 0.0) + kept[word]
    norm = math.sqrt(sum(w * w for w in weights.values()))
    return {word: w / norm for word, w in weights.items()}
