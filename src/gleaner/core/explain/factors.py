"""What the factors of a model stand for."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gleaner.core.models.base.capabilities import Factors


@dataclass(frozen=True, eq=False)
class FactorView:
    """Factors in an order that can be read. shares float64 (rank,): of the variance of all scores, largest first.
    items float32 (n_items, rank), users float32 (n_users, rank): coordinates on each factor."""

    shares: np.ndarray
    items: np.ndarray
    users: np.ndarray

    def ends(self, factor: int, n: int) -> tuple[np.ndarray, np.ndarray]:
        """The n item rows highest on a factor, best first, and the n lowest, lowest first."""
        order = np.argsort(-self.items[:, factor], kind="stable")
        return order[:n], order[::-1][:n]

    @property
    def end_items(self) -> int:
        """How many items are looked at to say what an end stands for: one in twenty, 10 to 100 of them."""
        return min(len(self.items) // 2, max(10, min(100, len(self.items) // 20)))

    @property
    def map(self) -> np.ndarray:
        """Items on the two leading factors: float32 (n_items, 2); the second is 0 where there is one factor only."""
        return np.pad(self.items[:, :2], ((0, 0), (0, max(0, 2 - self.items.shape[1]))))


def view_of(factors: Factors) -> FactorView:
    """The factors of a model, turned to their principal axes.

    Scores X Y' stay the same when both sides are turned, so single columns mean nothing by themselves: X Y' = U S V'
    gives axes that do, in the order of their share S^2 / sum S^2 (by QR of both sides, Golub, Van Loan, section 8.6).
    Factors that are nowhere negative are left as they are, for they can be read; their share is |x_f|^2 |y_f|^2. The
    sign is such that the longest end is the positive one. Bias columns are left out.
    """
    X, Y = factors.user_tastes.astype(np.float64), factors.item_tastes.astype(np.float64)
    if not X.shape[1]:
        return FactorView(np.empty(0), factors.item_tastes, factors.user_tastes)
    if X.min() >= 0 and Y.min() >= 0:
        strength = (X**2).sum(axis=0) * (Y**2).sum(axis=0)
        order = np.argsort(-strength, kind="stable")
        items, users, strength = Y[:, order], X[:, order], strength[order]
    else:
        Qx, Rx = np.linalg.qr(X)
        Qy, Ry = np.linalg.qr(Y)
        U, S, V = np.linalg.svd(Rx @ Ry.T)
        keep = min(len(S), X.shape[1])
        users, items, strength = (Qx @ U)[:, :keep] * np.sqrt(S[:keep]), (Qy @ V.T)[:, :keep] * np.sqrt(S[:keep]), S**2
        flip = np.where(items.max(axis=0) < -items.min(axis=0), -1.0, 1.0)
        items, users = items * flip, users * flip
    total = strength.sum()
    return FactorView(strength / total if total > 0 else strength, items.astype(np.float32), users.astype(np.float32))
