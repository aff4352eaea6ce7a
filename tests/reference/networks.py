"""Networks in plain NumPy, one row at a time, and steps of Adam as the paper writes them."""

from __future__ import annotations

import itertools

import numpy as np


def relu(x):
    return np.maximum(x, 0)


def layers(weights, prefix, x, activation=relu):
    """x through all layers of a name, the last one straight."""
    n = sum(name.startswith(f"{prefix}.") and name.endswith("weight") for name in weights)
    for place in range(n):
        x = x @ weights[f"{prefix}.{place}.weight"].astype(float) + weights[f"{prefix}.{place}.bias"]
        if place < n - 1:
            x = activation(x)
    return x


def layer_norm(x, scale, shift):
    return (x - x.mean()) / np.sqrt(x.var() + 1e-5) * scale + shift


def attention_block(weights, prefix, rows, heads):
    """Rows of a sequence, each of which sees those before it and itself."""
    w = {name.removeprefix(f"{prefix}."): array.astype(float) for name, array in weights.items()}
    rank = len(rows[0])
    size = rank // heads
    normed = [layer_norm(row, w["attend.scale"], w["attend.shift"]) for row in rows]
    after = []
    for place, row in enumerate(rows):
        joined = np.zeros(rank)
        for head in range(heads):
            part = slice(head * size, (head + 1) * size)
            query = (normed[place] @ w["query"])[part]
            keys = [(other @ w["key"])[part] for other in normed[: place + 1]]
            values = [(other @ w["value"])[part] for other in normed[: place + 1]]
            likeness = np.exp([query @ key / np.sqrt(size) for key in keys])
            joined[part] = sum(share * value for share, value in zip(likeness / likeness.sum(), values, strict=True))
        x = row + joined @ w["mix"]
        inner = relu(layer_norm(x, w["feed.scale"], w["feed.shift"]) @ w["inner"] + w["inner_bias"])
        after.append(x + inner @ w["outer"] + w["outer_bias"])
    return after


def self_attention(weights, items, history, blocks, heads, length):
    """What comes next after a history, from the first to the last."""
    rank = items.shape[1]
    shown = history[-length:]
    rows = [
        items[item].astype(float) * np.sqrt(rank) + weights["places"][len(shown) - 1 - place]
        for place, item in enumerate(shown)
    ]
    for block in range(blocks):
        own = {name: array for name, array in weights.items() if name.startswith(f"block.{block}.")}
        rows = attention_block(own, f"block.{block}", rows, heads)
    return layer_norm(rows[-1], weights["last.scale"], weights["last.shift"])


def pair_score(sort, weights, left, right):
    """What a ranking network makes of the vectors of one pair, weights last: `deep`, `machine` or `products`."""
    vectors = [each[:-1].astype(float) for each in (*left, *right)]
    score = sum(float(each[-1]) for each in (*left, *right))
    if sort == "machine":
        score += sum(float(a @ b) for a, b in itertools.combinations(vectors, 2))
    if not any(name.startswith("deep.") for name in weights):
        return score
    if sort == "products":
        n_left = len(left)
        within = [itertools.combinations(side, 2) for side in (vectors[:n_left], vectors[n_left:])]
        pairs = [*within[0], *within[1], *((y, x) for y in vectors[n_left:] for x in vectors[:n_left])]
        inputs = np.array([a @ b for a, b in pairs])
    else:
        inputs = np.concatenate(vectors)
    return score + float(layers(weights, "deep", inputs)[0])


def propagated(adjacency, e, steps):
    """The mean over steps of powers of a dense adjacency, users first, times all vectors."""
    total, here = e.copy(), e
    for _ in range(steps):
        here = adjacency @ here
        total = total + here
    return total / (steps + 1)


def normed_adjacency(observed):
    """Of users and items together: 1 / sqrt(n_u n_i) at the edges."""
    n_users, n_items = observed.shape
    whole = np.zeros((n_users + n_items, n_users + n_items))
    whole[:n_users, n_users:] = observed
    whole[n_users:, :n_users] = observed.T
    degree = whole.sum(axis=1)
    share = np.divide(1, np.sqrt(degree), out=np.zeros(len(degree)), where=degree > 0)
    return share[:, None] * whole * share[None]
