"""Dense, loop-by-loop models."""

from __future__ import annotations

import math

import numpy as np


def weights_of(dense: np.ndarray, observed: np.ndarray, weighting: str) -> np.ndarray:
    """Weights over their mean, zero where nothing was observed."""
    raw = {"value": dense, "log": np.log(1 + dense), "binary": np.ones_like(dense)}[weighting]
    raw = np.where(observed, raw, 0.0)
    return raw if weighting == "binary" else raw / raw[observed].mean()


def als_half_step(weights, observed, Y, a0, reg, power):
    """The exact minimiser of the objective over one side, row by row, by a dense solve."""
    n_other, rank = Y.shape
    X = np.zeros((len(weights), rank))
    for u in range(len(weights)):
        seen = np.flatnonzero(observed[u])
        if len(seen) == 0:
            continue
        ridge = reg * (len(seen) + a0 * n_other) ** power
        A = ridge * np.eye(rank)
        b = np.zeros(rank)
        for i in range(n_other):
            A += a0 * np.outer(Y[i], Y[i])
        for i in seen:
            A += weights[u, i] * np.outer(Y[i], Y[i])
            b += weights[u, i] * Y[i]
        X[u] = np.linalg.solve(A, b)
    return X


def als_objective(weights, observed, X, Y, a0, reg, power):
    """The objective, cell by cell."""
    total = 0.0
    for u in range(len(X)):
        for i in range(len(Y)):
            fit = float(X[u] @ Y[i])
            total += a0 * fit**2
            if observed[u, i]:
                total += weights[u, i] * (1 - fit) ** 2
    for side, counts, n_other in ((X, observed.sum(1), len(Y)), (Y, observed.sum(0), len(X))):
        for row, count in zip(side, counts, strict=True):
            total += reg * (count + a0 * n_other) ** power * float(row @ row)
    return total


def knn_scores(dense, observed, k, shrinkage):
    """Item-item cosine scores: for every user and item the sum over the item's k nearest that the user has."""
    n_users, n_items = dense.shape
    x = np.where(observed, dense, 0.0)
    alike = np.zeros((n_items, n_items))
    for i in range(n_items):
        for j in range(n_items):
            dot = sum(x[u, i] * x[u, j] for u in range(n_users))
            norms = np.sqrt((x[:, i] ** 2).sum()) * np.sqrt((x[:, j] ** 2).sum())
            if i != j and dot > 0:
                alike[i, j] = dot / (norms + shrinkage)
    scores = np.zeros((n_users, n_items))
    for i in range(n_items):
        nearest = sorted((j for j in range(n_items) if alike[i, j] > 0), key=lambda j: -alike[i, j])[:k]
        for u in range(n_users):
            scores[u, i] = sum(x[u, j] * alike[i, j] for j in nearest)
    return scores


def linear_weights(x, regularisation, dropout):
    """Column i: the ridge regression of item i on all other items, solved by itself."""
    n_items = x.shape[1]
    weights = np.zeros((n_items, n_items))
    for i in range(n_items):
        others = [j for j in range(n_items) if j != i]
        a = x[:, others]
        penalty = np.diag([regularisation + dropout / (1 - dropout) * (x[:, j] ** 2).sum() for j in others])
        weights[others, i] = np.linalg.solve(a.T @ a + penalty, a.T @ x[:, i])
    return weights


def likeness(name, a, b, seen_a, seen_b, n, shrinkage=0.0, least=1, asymmetry=0.5, signed=False):
    """How alike two rows of a dense matrix are, entry by entry; a rule "b -> a" for confidence, lift and support."""
    both = [k for k in range(len(a)) if seen_a[k] and seen_b[k]]
    if len(both) < least or not both:
        return 0.0
    x, y = np.array([a[k] for k in both]), np.array([b[k] for k in both])
    n_a, n_b, n_ab = seen_a.sum(), seen_b.sum(), len(both)
    if name in ("cosine", "cosine_whole"):
        value = (x @ y) / (
            np.linalg.norm(a[seen_a]) ** (2 * asymmetry) * np.linalg.norm(b[seen_b]) ** (2 - 2 * asymmetry)
        )
    elif name == "jaccard":
        value = n_ab / (n_a + n_b - n_ab)
    elif name == "log_likelihood":
        table = np.array([[n_ab, n_a - n_ab], [n_b - n_ab, n - n_a - n_b + n_ab]], dtype=float)
        expected = np.outer(table.sum(1), table.sum(0)) / n
        g2 = 2 * sum(o * np.log(o / e) for o, e in zip(table.ravel(), expected.ravel(), strict=True) if o > 0)
        value = 1 - 1 / (1 + g2) if table[0, 0] > expected[0, 0] else 0.0
    elif name == "confidence":
        value = n_ab / n_b
    elif name == "lift":
        value = n_ab * n / (n_a * n_b)
    elif name == "support":
        value = n_ab / n
    elif name == "mean_squared_difference":
        value = 1 / (1 + np.mean((x - y) ** 2))
    elif name == "euclidean":
        value = 1 / (1 + np.sqrt(np.sum((x - y) ** 2)))
    else:
        if name == "pearson":
            x, y = x - x.mean(), y - y.mean()
        size = np.sqrt((x**2).sum() * (y**2).sum())
        value = (x @ y) / size if size > 1e-6 else 0.0
    return max(value * n_ab / (n_ab + shrinkage), 0.0 if not signed else -1.0)


def likenesses(name, dense, observed, **how):
    """Likeness of all pairs of rows."""
    n_rows, n = dense.shape
    if name == "adjusted_cosine":
        means = [dense[observed[:, k], k].mean() if observed[:, k].any() else 0 for k in range(n)]
        dense = dense - np.array(means)
    out = np.zeros((n_rows, n_rows))
    for a in range(n_rows):
        for b in range(n_rows):
            if a != b:
                out[a, b] = likeness(name, dense[a], dense[b], observed[a], observed[b], n, **how)
    return out


def top_neighbours(alike, k, order, *, signed=False):
    """The k most alike of each row, equal ones by `order`; signed: those that differ as much as any."""
    far = abs(alike) if signed else alike
    return [
        sorted((b for b in range(len(far)) if far[a, b] > 0), key=lambda b: (-round(far[a, b], 6), order[b]))[:k]
        for a in range(len(far))
    ]


def knn_value(dense, observed, alike, near, row, other):
    """Mean-centred weighted average over the neighbours that met the other; None where none did."""
    mean = lambda r: dense[r][observed[r]].mean()  # noqa: E731
    used = [mate for mate in near[row] if observed[mate, other]]
    if not used:
        return None
    top = sum(alike[row, mate] * (dense[mate, other] - mean(mate)) for mate in used)
    return mean(row) + top / sum(abs(alike[row, mate]) for mate in used)


def damped_biases(dense, observed, damping):
    """Mean, offsets of users, offsets of items, cell by cell."""
    mean = dense[observed].mean()
    item = np.array(
        [(dense[observed[:, i], i] - mean).sum() / (observed[:, i].sum() + damping) for i in range(dense.shape[1])]
    )
    user = np.array(
        [
            (dense[u, observed[u]] - mean - item[observed[u]]).sum() / (observed[u].sum() + damping)
            for u in range(len(dense))
        ]
    )
    return mean, user, item


def value_half_step(dense, observed, mean, Y, other_bias, penalty):
    """Factors and biases of one side of regularised values, one least-squares problem a row."""
    X, bias = np.zeros((len(dense), Y.shape[1])), np.zeros(len(dense))
    for u in range(len(dense)):
        seen = np.flatnonzero(observed[u])
        if len(seen) == 0:
            continue
        Z = np.column_stack([Y[seen], np.ones(len(seen))])
        result = np.linalg.solve(
            Z.T @ Z + penalty * len(seen) * np.eye(Z.shape[1]), Z.T @ (dense[u, seen] - mean - other_bias[seen])
        )
        X[u], bias[u] = result[:-1], result[-1]
    return X, bias


def elastic_net_column(x, i, l1, l2):
    """One non-negative elastic-net regression by projected gradient descent, run to the end."""
    others = [j for j in range(x.shape[1]) if j != i]
    a, target = x[:, others], x[:, i]
    w, step = np.zeros(len(others)), 1 / (np.linalg.norm(a.T @ a, 2) + l2)
    for _ in range(20_000):
        w = np.maximum(w - step * (a.T @ (a @ w - target) + l2 * w + l1), 0)
    return dict(zip(others, w, strict=True))


def pair_loss(x, yi, yj):
    """Pairwise logistic loss; the last entry of the items is their bias, of the user a 1."""
    return np.log1p(np.exp(-(x @ yi - x @ yj)))


def text_weights(dense, observed, weighting):
    """Cells weighed as words in documents, a user being a document: TF-IDF or BM25, cell by cell."""
    n_users, n_items = dense.shape
    lengths = [sum(dense[u, i] for i in range(n_items) if observed[u, i]) for u in range(n_users)]
    mean_length = sum(lengths) / n_users
    weights = np.zeros((n_users, n_items))
    for u in range(n_users):
        for i in range(n_items):
            if not observed[u, i]:
                continue
            having, value = sum(bool(observed[v, i]) for v in range(n_users)), dense[u, i]
            if weighting == "tfidf":
                weights[u, i] = math.sqrt(value) * math.log(1 + n_users / having)
            else:
                saturation = value + 1.2 * (1 - 0.75 + 0.75 * lengths[u] / mean_length)
                rarity = math.log(1 + (n_users - having + 0.5) / (having + 0.5))
                weights[u, i] = value * 2.2 / saturation * rarity
    return weights


def content_scores(blocks, x):
    """Weighed mean cosine of every item to those of a history. blocks: one table of features per column, dense; of
    those to be weighed by rarity the second entry says so. x: weights of a history, (n_items,)."""
    n_items = len(blocks[0][0])
    vectors = []
    for table, by_rarity in blocks:
        rows = [list(row) for row in table]
        for f in range(len(rows[0])):
            having = sum(row[f] != 0 for row in rows)
            for row in rows:
                row[f] *= math.log((1 + n_items) / (1 + having)) + 1 if by_rarity else 1
        lengths = [math.sqrt(sum(value**2 for value in row)) or 1 for row in rows]
        vectors.append([[value / length for value in row] for row, length in zip(rows, lengths, strict=True)])
    joined = [[value for column in vectors for value in column[i]] for i in range(n_items)]

    def cosine(a, b):
        lengths = math.sqrt(sum(v * v for v in a)) * math.sqrt(sum(v * v for v in b))
        return sum(v * w for v, w in zip(a, b, strict=True)) / lengths if lengths else 0.0

    total = sum(x)
    return [sum(x[j] * cosine(joined[j], joined[i]) for j in range(n_items)) / total for i in range(n_items)]


def mixed(state):
    """The next state of a SplitMix64 generator and its 31-bit number (Steele, Lea, Flood 2014)."""
    mask = 2**64 - 1
    state = (state + 0x9E3779B97F4A7C15) & mask
    z = ((state ^ (state >> 30)) * 0xBF58476D1CE4E5B9) & mask
    z = ((z ^ (z >> 27)) * 0x94D049BB133111EB) & mask
    return state, (z ^ (z >> 31)) >> 33
