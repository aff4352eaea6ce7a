"""The chance that a user takes an item when shown: calibrated on one part, and what it is worth on another."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import polars as pl

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.models.base.factor_model import logistic_fit
from gleaner.core.models.base.likelihood import Calibration
from gleaner.core.splits.truth import Truth

DRAWN = 50
"""Candidates drawn for each user, beside what they took."""

BINS = 10
LEAST_SLOPE_PENALTY = 1e-6
CLIP = 1e-12
"""How near to 0 and 1 a chance may come: an answer that was sure and wrong costs much, and not everything."""


@dataclass(frozen=True, eq=False)
class LikelihoodPairs:
    """What users could have been shown: every item that they took, and some drawn of those that they did not.

    users, items: int32 (n,), rows of training. taken: bool (n,). weights: float64 (n,), for how many candidates of the
    user each stands. owners: int64 (n,), places among the users of the truth. context: a row for each pair, or None.
    """

    users: np.ndarray
    items: np.ndarray
    taken: np.ndarray
    weights: np.ndarray
    owners: np.ndarray
    context: pl.DataFrame | None = None

    @classmethod
    def draw(cls, truth: Truth, known: InteractionMatrix, seed: int) -> LikelihoodPairs:
        """Of every user of the truth. A candidate is an item that the user lacks in `known`, each as likely to be shown
        as any other; in the context of the first that they took."""
        n_items, n_users = known.shape[1], len(truth.user_rows)
        counts = np.diff(truth.indptr)
        random = np.random.Generator(np.random.PCG64([seed, 20]))
        owners = np.repeat(np.arange(n_users), DRAWN)
        shown = np.arange(n_items) if truth.candidates is None else np.flatnonzero(truth.candidates)
        drawn = shown[random.integers(0, len(shown), len(owners))].astype(np.int32)
        wanted = owners * n_items + drawn
        took = np.repeat(np.arange(n_users), counts) * n_items + truth.indices
        # rows of the truth ascend, and so do items within them
        had = _cells_of(known, truth.user_rows)
        free = ~np.isin(wanted, took) & ~np.isin(wanted, had)
        others = truth.n_candidates(known) - counts
        drawn_free = np.bincount(owners[free], minlength=n_users)
        stands_for = others / np.maximum(drawn_free, 1)
        place = np.concatenate([np.repeat(np.arange(n_users), counts), owners[free]])
        items = np.concatenate([truth.indices, drawn[free]])
        return cls(
            users=truth.user_rows[place],
            items=items.astype(np.int32),
            taken=np.arange(len(place)) < len(took),
            weights=np.concatenate([np.ones(len(took)), stands_for[owners[free]]]),
            owners=place,
            context=None if truth.context is None else truth.context[place],
        )


@dataclass(frozen=True, eq=False)
class LikelihoodScores:
    """Chances of candidate pairs, by a calibration, and which were taken. chances: float64 (n,)."""

    pairs: LikelihoodPairs
    chances: np.ndarray
    calibration: Calibration

    @classmethod
    def of(cls, pairs: LikelihoodPairs, odds: np.ndarray, calibration: Calibration) -> LikelihoodScores:
        """odds: the log-odds of the pairs, float64 (n,)."""
        return cls(pairs, calibration.chance(odds), calibration)

    def per_user(self) -> dict[str, np.ndarray]:
        """brier: the mean squared distance of the chance from 1 for what was taken and 0 for what was not (Brier 1950);
        log_loss: the mean of -log of the chance of what happened. Over all candidates of a user: float64 (n_users,)."""
        sure = np.clip(self.chances, CLIP, 1 - CLIP)
        squared = (self.chances - self.pairs.taken) ** 2
        surprise = -np.where(self.pairs.taken, np.log(sure), np.log1p(-sure))
        whole = np.bincount(self.pairs.owners, self.pairs.weights)
        return {
            name: np.bincount(self.pairs.owners, self.pairs.weights * figure) / whole
            for name, figure in (("brier", squared), ("log_loss", surprise))
        }

    def reliability(self) -> list[dict[str, float]]:
        """By chance, in bins of about as many expected to be taken each: `said`, the mean chance, beside `taken`, the
        share that was, with the ends of its 95 % interval, and how many pairs that stands for."""
        order = np.argsort(self.chances, kind="stable")
        weights, chances, taken = self.pairs.weights[order], self.chances[order], self.pairs.taken[order]
        expected = np.cumsum(weights * chances)
        place = np.minimum((expected / expected[-1] * BINS * (1 - CLIP)).astype(int), BINS - 1)
        bins = []
        for each in np.unique(place):
            mine = place == each
            n, took = float(weights[mine].sum()), int(taken[mine].sum())
            spread = 1.96 * np.sqrt(took * max(0.0, 1 - took / n)) / n
            bins.append(
                {
                    "said": float((weights[mine] * chances[mine]).sum() / n),
                    "taken": took / n,
                    "low": max(0.0, took / n - spread),
                    "high": min(1.0, took / n + spread),
                    "pairs": n,
                }
            )
        return bins

    @property
    def base_rate(self) -> float:
        """The share of all candidates that was taken."""
        return float(self.pairs.taken.sum() / self.pairs.weights.sum())


@dataclass(frozen=True)
class LikelihoodFacts:
    """How chances were calibrated, on the validation part, and what they were worth on the test part. reliability: as
    in LikelihoodScores; base_rate: the share of all candidates that was taken."""

    slope: float
    intercept: float
    brier: float
    log_loss: float
    base_rate: float
    reliability: list[dict[str, float]]

    @classmethod
    def of(cls, scores: LikelihoodScores) -> LikelihoodFacts:
        """Means over users."""
        figures = {name: float(each.mean()) for name, each in scores.per_user().items()}
        return cls(
            scores.calibration.slope,
            scores.calibration.intercept,
            figures["brier"],
            figures["log_loss"],
            scores.base_rate,
            scores.reliability(),
        )


def calibrated(pairs: LikelihoodPairs, odds: np.ndarray) -> Calibration:
    """The line through the log-odds, float64 (n,), that makes what was taken most likely."""
    rows = np.column_stack([odds, np.ones(len(odds))])
    signs = np.where(pairs.taken, 1.0, -1.0)
    penalty = np.full(2, LEAST_SLOPE_PENALTY)
    slope, intercept = logistic_fit(rows, np.zeros(len(odds)), signs, pairs.weights, penalty)
    return Calibration(float(slope), float(intercept))


def _cells_of(known: InteractionMatrix, user_rows: np.ndarray) -> np.ndarray:
    """place * n_items + item of everything that users have, place by place."""
    counts = np.diff(known.indptr)[user_rows]
    starts = np.repeat(known.indptr[:-1][user_rows] - np.concatenate([[0], np.cumsum(counts)[:-1]]), counts)
    at = starts + np.arange(counts.sum())
    return np.repeat(np.arange(len(user_rows)), counts) * known.shape[1] + known.indices[at]
