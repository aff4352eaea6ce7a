"""How much an observed cell counts in models of implicit feedback."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.errors import InputError, ParameterError

WEIGHTING_MEANS = "cells as `value`, `log` (1 + value), `binary`, and for neighbours `tfidf` or `bm25`"
"""What the parameter means, for the families that have it."""
Weighting = Literal["value", "log", "binary"]
WEIGHTINGS = ("value", "log", "binary")
TextWeighting = Literal["value", "log", "binary", "tfidf", "bm25"]
TEXT_WEIGHTINGS = (*WEIGHTINGS, "tfidf", "bm25")
BM25_K, BM25_B = 1.2, 0.75
"""Saturation and length normalisation, as Robertson and Zaragoza 2009 recommend."""


def require_weighting(name: str, allowed: tuple[str, ...] = WEIGHTINGS) -> None:
    """Raise ParameterError unless the name is one of those allowed."""
    if name not in allowed:
        raise ParameterError(f"weighting must be one of {', '.join(allowed)}, not {name!r}", where="weighting")


def weigh(values: np.ndarray, weighting: Weighting, family: str) -> np.ndarray:
    """Weights of cells, float32: the value, log(1 + value), or 1.

    The logarithm keeps a few heavily repeated cells from drowning the rest (Hu, Koren, Volinsky 2008, eq. 6). Raises
    InputError on a negative value: disliking is not a small interest.
    """
    if weighting == "binary":
        return np.ones(len(values), dtype=np.float32)
    values = np.asarray(values, dtype=np.float32)
    if len(values) and values.min() < 0:
        raise InputError(
            f"{family} takes values as weights, and they cannot be negative (found {values.min():g}); "
            "use weighting: binary, or kinds with weights",
            where="value",
        )
    return np.log1p(values) if weighting == "log" else values


@dataclass(frozen=True, eq=False)
class TextWeights:
    """Weights as of words in documents, a user being a document and an item a word.

    tfidf: sqrt(value) * ln(1 + N / n_i). bm25: value (k + 1) / (value + k (1 - b + b length / mean length)) *
    ln(1 + (N - n_i + 0.5) / (n_i + 0.5)) (Robertson, Zaragoza 2009). N users, n_i of them with item i; the length of a
    user is the sum of their values. In both, an item that many have says little about who has it.
    """

    weighting: TextWeighting
    family: str
    rarity: np.ndarray
    mean_length: float

    @classmethod
    def learn(cls, train: InteractionMatrix, weighting: TextWeighting, family: str) -> TextWeights:
        """Count items and lengths."""
        if weighting in ("value", "log", "binary"):
            return cls(weighting, family, np.ones(0, np.float32), 1.0)
        weigh(train.values, "value", family)
        n_users = len(train.users)
        counts = np.bincount(train.indices, minlength=len(train.items))
        rarity = (
            np.log1p((n_users - counts + 0.5) / (counts + 0.5))
            if weighting == "bm25"
            else np.log1p(n_users / np.maximum(counts, 1))
        )
        return cls(weighting, family, rarity.astype(np.float32), float(train.values.sum(dtype=np.float64)) / n_users)

    def weigh(self, values: np.ndarray, items: np.ndarray, lengths: np.ndarray | None = None) -> np.ndarray:
        """Weights of cells, float32; lengths: that of each cell's user, where it is not the cells' own sum."""
        if self.weighting in ("value", "log", "binary"):
            return weigh(values, self.weighting, self.family)
        values = weigh(values, "value", self.family)
        if self.weighting == "tfidf":
            return np.sqrt(values) * self.rarity[items]
        if lengths is None:
            lengths = np.full(len(values), values.sum(dtype=np.float64))
        norm = BM25_K * (1 - BM25_B + BM25_B * lengths / max(self.mean_length, 1e-12))
        return (values * (BM25_K + 1) / (values + norm) * self.rarity[items]).astype(np.float32)

    def of(self, train: InteractionMatrix) -> np.ndarray:
        """Weights of all training cells."""
        lengths = np.bincount(train.user_rows, train.values, minlength=len(train.users))[train.user_rows]
        return self.weigh(train.values, train.indices, lengths)
