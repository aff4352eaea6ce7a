"""Gibbs sampling of a factorisation machine with squared loss (Freudenthaler, Schmidt-Thieme, Rendle 2011; Rendle
2012).

Errors are normal with one precision. Weights and vectors of a field are normal, each dimension with a mean and a
precision of the field's own, which are drawn too: no regularisation is left to be chosen.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from gleaner.core.kernels import factorisation as kernels
from gleaner.core.models.machines.fields import Field
from gleaner.core.parallel import RANGES_PER_THREAD, balanced_ranges, default_threads, even_ranges, run_ranges

SHAPE, RATE, STRENGTH = 1.0, 1.0, 1.0
"""Of the hyperpriors: precisions are Gamma(SHAPE / 2, RATE / 2), means normal around 0 with STRENGTH times the
precision."""

PARTS = 16
"""Stretches of the rows whose sums are added up apart."""


class Chain:
    """One chain of draws. tables: float64 (n_features, rank + 1) of each field, weight first. unmet: bool (n_features,)
    of each, the features that no cell has."""

    def __init__(self, fields: list[Field], values: np.ndarray, rank: int, scale: float, seed: int) -> None:
        self.fields, self.rank, self.seed, self.draws = fields, rank, seed, 0
        self.base = float(values.mean(dtype=np.float64))
        # with vectors of zeros the first draw is one of their prior, so nothing has to be summed up to begin with
        self.tables = [np.zeros((field.n_features, rank + 1)) for field in fields]
        self.unmet = [field.unmet() for field in fields]
        self.means = np.zeros((len(fields), rank + 1))
        self.precisions = np.ones((len(fields), rank + 1))
        self.precisions[:, 1:] = 1 / scale**2
        self.sums = np.zeros((len(values), rank), np.float32)
        self.left = values.astype(np.float64) - self.base
        self.precision = 1.0 / max(float(self.left.var()), 1e-12)

    def draw(self) -> None:
        """Everything once: the error's precision, the base, and field by field its prior and its features."""
        self.draws += 1
        random = np.random.default_rng([self.seed, self.draws])
        n = len(self.left)
        self.precision = random.gamma((SHAPE + n) / 2) / ((RATE + float(self.left @ self.left)) / 2)
        base = self.base + self.left.mean() + random.standard_normal() / np.sqrt(self.precision * n)
        self.left -= base - self.base
        self.base = base
        for place, (field, table) in enumerate(zip(self.fields, self.tables, strict=True)):
            if self.draws > 1:
                self._draw_prior(place, table, random)
            self._draw_field(place, field, table, random.standard_normal(table.shape))

    def loss(self) -> float:
        """The mean squared error of the draw."""
        return float(self.left @ self.left) / len(self.left)

    def _draw_prior(self, place: int, table: np.ndarray, random: np.random.Generator) -> None:
        n = len(table)
        mean = self.means[place]
        spread = ((table - mean) ** 2).sum(axis=0) + STRENGTH * mean**2 + RATE
        self.precisions[place] = random.gamma((SHAPE + n + 1) / 2, size=len(mean)) / (spread / 2)
        centre = table.sum(axis=0) / (n + STRENGTH)
        noise = random.standard_normal(len(mean)) / np.sqrt((n + STRENGTH) * self.precisions[place])
        self.means[place] = centre + noise

    def _draw_field(self, place: int, field: Field, table: np.ndarray, noise: np.ndarray) -> None:
        prior = self.precision, self.means[place], self.precisions[place]
        if field.codes is not None:
            self._draw_in_order(field, field.codes, table, noise, prior)
            return

        def work(lo: int, hi: int) -> None:
            kernels.draw_features(
                lo, hi, field.bounds, field.rows, field.amounts, self.left, self.sums, table, noise, *prior
            )

        # features that meet in a row must be drawn one after the other
        if field.alone:
            run_ranges(work, balanced_ranges(field.bounds, RANGES_PER_THREAD * default_threads()))
        else:
            work(0, field.n_features)

    def _draw_in_order(
        self, field: Field, codes: np.ndarray, table: np.ndarray, noise: np.ndarray, prior: tuple[Any, ...]
    ) -> None:
        """All features of a field from one reading of the rows, for none of them meet in one."""
        n, width = len(codes), table.shape[1]
        size = -(-n // (PARTS * kernels.BLOCK)) * kernels.BLOCK
        # the parts are the same on any number of threads, and so are the sums
        products = np.zeros((PARTS, field.n_features, width + 1, width + 1))

        def add(lo: int, hi: int) -> None:
            rows = codes, field.slots, field.amounts, self.left, self.sums
            kernels.add_products(lo, hi, *rows, table, products[lo // size])

        run_ranges(add, even_ranges(n, size))
        before = table.astype(np.float32)
        kernels.draw_from_products(0, field.n_features, products.sum(axis=0), table, noise, *prior)
        after = table.astype(np.float32)

        def apply(lo: int, hi: int) -> None:
            kernels.apply_steps(lo, hi, codes, field.amounts, self.left, self.sums, before, after)

        run_ranges(apply, even_ranges(n, size))
