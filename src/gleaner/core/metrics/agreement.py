"""Do several figures of the same users say the same: rank correlations, and one index of all."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

Kernel = Literal["linear", "rbf", "polynomial", "sigmoid", "cosine"]
MOST_FOR_KERNEL = 2_000
"""Users beyond which a kernel's components are found on a sample, and the others are placed among them."""


@dataclass(frozen=True, eq=False)
class Index:
    """One figure for every user: float64 (n_users,). explained: the share of the variance of each component, most
    first; weights: of each column in the first one, None where a kernel has none. sampled: users it was found on."""

    values: np.ndarray
    explained: list[float]
    weights: list[float] | None
    sampled: int


def rank_correlation(first: np.ndarray, second: np.ndarray) -> float:
    """Spearman's rho of two columns, float64 (n,), neither the same throughout."""
    # half a second to load, which most who import this never need
    from scipy import stats

    return float(stats.spearmanr(first, second).statistic)


def rank_correlations(table: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Kendall's tau-b and Spearman's rho of all pairs of columns of float64 (n_users, d): two (d, d) tables. NaN for a
    column that is the same for everyone."""
    # half a second to load, which most who import this never need
    from scipy import stats

    d = table.shape[1]
    tau, rho = np.eye(d), np.eye(d)
    flat = np.ptp(table, axis=0) == 0
    for i in range(d):
        for j in range(i):
            if flat[i] or flat[j]:
                tau[i, j] = tau[j, i] = rho[i, j] = rho[j, i] = np.nan
                continue
            tau[i, j] = tau[j, i] = stats.kendalltau(table[:, i], table[:, j]).statistic
            rho[i, j] = rho[j, i] = rank_correlation(table[:, i], table[:, j])
    return tau, rho


def principal(table: np.ndarray) -> Index:
    """The first principal component of standardised columns."""
    return _by_singular_values(_standardised(table), table)


def singular(table: np.ndarray) -> Index:
    """The first singular direction of the columns as they are, not centred."""
    return _by_singular_values(table, table)


def kernel_principal(table: np.ndarray, kernel: Kernel, seed: int) -> Index:
    """The first component in the space of a kernel over standardised columns (Schoelkopf, Smola, Mueller 1998).

    With more than MOST_FOR_KERNEL users it is found on a seeded sample, and the others are projected onto it.
    """
    whole = _standardised(table)
    random = np.random.default_rng(seed)
    n = min(len(whole), MOST_FOR_KERNEL)
    sample = whole if n == len(whole) else whole[np.sort(random.choice(len(whole), n, replace=False))]
    inner = _kernel(sample, sample, kernel)
    centred = inner - inner.mean(axis=0) - inner.mean(axis=1)[:, None] + inner.mean()
    lengths, directions = np.linalg.eigh(centred)
    lengths = np.maximum(lengths[::-1], 0)
    first = directions[:, -1] / np.sqrt(max(lengths[0], 1e-12))
    placed = np.empty(len(whole))
    for lo in range(0, len(whole), MOST_FOR_KERNEL):
        outer = _kernel(whole[lo : lo + MOST_FOR_KERNEL], sample, kernel)
        moved = outer - outer.mean(axis=1)[:, None] - inner.mean(axis=0) + inner.mean()
        placed[lo : lo + MOST_FOR_KERNEL] = moved @ first
    total = max(lengths.sum(), 1e-12)
    kept = table.shape[1]
    return Index(_upward(placed, table), (lengths[:kept] / total).tolist(), None, n)


def _by_singular_values(whole: np.ndarray, table: np.ndarray) -> Index:
    _, lengths, directions = np.linalg.svd(whole, full_matrices=False)
    values = whole @ directions[0]
    turned = _upward(values, table)
    weights = directions[0] if np.array_equal(turned, values) else -directions[0]
    total = max((lengths**2).sum(), 1e-12)
    return Index(turned, (lengths**2 / total).tolist(), weights.tolist(), len(whole))


def _upward(values: np.ndarray, table: np.ndarray) -> np.ndarray:
    """Turned so that it grows with what the columns say on the whole."""
    together = _standardised(table).mean(axis=1)
    return values if (values - values.mean()) @ together >= 0 else -values


def _standardised(table: np.ndarray) -> np.ndarray:
    spread = table.std(axis=0)
    return (table - table.mean(axis=0)) / np.where(spread > 0, spread, 1)


def _kernel(first: np.ndarray, second: np.ndarray, kernel: Kernel) -> np.ndarray:
    """Inner products in the kernel's space; the scale is 1 / columns, as is usual."""
    scale = 1 / first.shape[1]
    plain: np.ndarray = first @ second.T
    if kernel == "polynomial":
        return (scale * plain + 1) ** 3
    if kernel == "sigmoid":
        return np.tanh(scale * plain + 1)
    if kernel == "rbf":
        apart = (first**2).sum(axis=1)[:, None] + (second**2).sum(axis=1)[None, :] - 2 * plain
        return np.exp(-scale * np.maximum(apart, 0))
    if kernel == "cosine":
        lengths = np.linalg.norm(first, axis=1)[:, None] * np.linalg.norm(second, axis=1)[None, :]
        return plain / np.maximum(lengths, 1e-12)
    return plain
