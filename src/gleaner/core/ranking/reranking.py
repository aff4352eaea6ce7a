"""Orders of a pool of candidates other than by score: spread out, or drawn by chance; and what stands in for scores."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from gleaner.core.kernels.ordering import spread_out


def by_score(scores: np.ndarray, ties: np.ndarray) -> np.ndarray:
    """Places of the pool, best first: int64 (m,). scores: float (m,); ties: order of equal scores."""
    return np.lexsort((ties, -scores))


def diversified(scores: np.ndarray, likeness: np.ndarray, ties: np.ndarray, weight: float) -> np.ndarray:
    """Places of the pool by maximal marginal relevance (Carbonell and Goldstein 1998): each next one has the highest

        (1 - weight) * s_i  -  weight * max over those that stand of likeness_ij

    s: scores from 0, the lowest of the pool, to 1, the highest. likeness: (m, m), 0 to 1. Ties by `ties`.
    """
    span = float(scores.max() - scores.min()) or 1.0
    merit = (1 - weight) * (scores.astype(np.float64) - scores.min()) / span
    order = np.empty(len(scores), dtype=np.int64)
    spread_out(merit, likeness.astype(np.float64, copy=False), ties, float(weight), order)
    return order


def sampled(scores: np.ndarray, temperature: float, random: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    """Places of the pool drawn one after another without putting back (Plackett and Luce), and the chance each had of
    being drawn at its turn: exp(s_i / t) over the sum of those left. t: temperature in standard deviations of scores.

    Drawn all at once by the Gumbel trick (Kool et al. 2019). float64 (m,) each.
    """
    spread = float(scores.std()) * temperature
    wanted = scores.astype(np.float64) / spread if spread > 0 else np.zeros(len(scores))
    order = np.argsort(-(wanted + random.gumbel(size=len(scores))), kind="stable")
    drawn = wanted[order]
    left = np.logaddexp.accumulate(drawn[::-1])[::-1]
    return order, np.exp(drawn - left)


def interleaved(lists: Sequence[np.ndarray]) -> np.ndarray:
    """Rows of several lists by turns, the first of each, then the second, a row once: int32."""
    if not lists:
        return np.empty(0, np.int32)
    turns = np.concatenate([np.arange(len(rows)) * len(lists) + at for at, rows in enumerate(lists)])
    rows = np.concatenate(lists)[np.argsort(turns)].astype(np.int32)
    firsts = np.unique(rows, return_index=True)[1]
    return rows[np.sort(firsts)]


def standardised(scores: np.ndarray) -> np.ndarray:
    """Mean 0 and standard deviation 1, so that scores of different models can be added; equal scores become 0."""
    spread = float(scores.std())
    return (scores - scores.mean()) / spread if spread > 0 else np.zeros(len(scores))


def shared_groups(groups: Sequence[frozenset[str]]) -> np.ndarray:
    """Likeness by groups, as by the entries of a column: the share of all groups of two that both have (Jaccard), 0
    where neither has any: float64 (m, m)."""
    names = {name: place for place, name in enumerate(sorted(set().union(*groups)))}
    has = np.zeros((len(groups), len(names)))
    for row, mine in enumerate(groups):
        has[row, [names[name] for name in mine]] = 1
    both = has @ has.T
    sizes = has.sum(axis=1)
    either = sizes[:, None] + sizes[None, :] - both
    return np.divide(both, either, out=np.zeros_like(both), where=either > 0)


def cosines_within(vectors: np.ndarray) -> np.ndarray:
    """Likeness by the cosine of vectors, below 0 as 0: float64 (m, m). vectors: (m, width)."""
    lengths = np.linalg.norm(vectors, axis=1, keepdims=True)
    unit = np.divide(vectors, lengths, out=np.zeros(vectors.shape), where=lengths > 0)
    return np.clip(unit @ unit.T, 0.0, 1.0)
