"""An order by a weighted sum of inputs, learned over whole lists."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.models.base.protocol import Arrays

STEPS = 200


@dataclass(frozen=True, eq=False)
class Weights:
    """score = sum over inputs of weight (input - mean) / deviation. All float64 (n_inputs,)."""

    means: np.ndarray
    deviations: np.ndarray
    weights: np.ndarray

    def sums(self, table: np.ndarray) -> np.ndarray:
        """The score of every row: float64 (n,)."""
        return (table - self.means) / self.deviations @ self.weights

    def terms(self, row: np.ndarray) -> tuple[float, np.ndarray]:
        """Where every row begins, and what each input adds to one: their sum is its score."""
        return 0.0, (row - self.means) / self.deviations * self.weights

    def state(self) -> Arrays:
        """The arrays."""
        size = np.array([len(self.weights)], np.int64)
        parts = {"means": self.means, "deviations": self.deviations, "weights": self.weights}
        return {f"linear.{name}": part for name, part in parts.items()} | {"n_inputs": size}

    @staticmethod
    def layout(n_inputs: str) -> Layout:
        """What the arrays must be."""
        parts = {f"linear.{name}": ArraySpec("float64", ("inputs",)) for name in ("means", "deviations", "weights")}
        return parts | {n_inputs: ArraySpec("int64", (1,), low=1)}

    @classmethod
    def load_state(cls, arrays: Arrays) -> Weights:
        """Load them."""
        return cls(*(arrays[f"linear.{name}"] for name in ("means", "deviations", "weights")))


def learn(table: np.ndarray, labels: np.ndarray, groups: np.ndarray, regularisation: float) -> Weights:
    """Weights that minimise the mean over lists of - sum over what was taken of log softmax(score) / how much was
    taken, and regularisation / 2 |weights|^2 (ListNet: Cao, Qin, Liu, Tsai, Li 2007)."""
    from scipy.optimize import minimize

    means = table.mean(axis=0, dtype=np.float64)
    deviations = table.std(axis=0, dtype=np.float64)
    deviations[deviations == 0] = 1.0
    inputs = (table - means) / deviations
    starts = np.concatenate([[0], np.cumsum(groups)[:-1]])
    owner = np.repeat(np.arange(len(groups)), groups)
    targets = labels / np.bincount(owner, labels)[owner] / len(groups)

    def loss(weights: np.ndarray) -> tuple[float, np.ndarray]:
        scores = inputs @ weights
        scores -= np.maximum.reduceat(scores, starts)[owner]
        chances = np.exp(scores)
        totals = np.bincount(owner, chances)
        whole = -(targets * (scores - np.log(totals)[owner])).sum()
        gradient = inputs.T @ (chances / totals[owner] / len(groups) - targets)
        return whole + regularisation / 2 * weights @ weights, gradient + regularisation * weights

    best = minimize(loss, np.zeros(inputs.shape[1]), jac=True, method="L-BFGS-B", options={"maxiter": STEPS})
    return Weights(means, deviations, best.x)
