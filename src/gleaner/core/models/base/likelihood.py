"""From a score to the chance that a user takes an item when shown."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

FARTHEST = 50.0
"""Log-odds beyond which a chance is as good as 0 or 1."""


@dataclass(frozen=True)
class Calibration:
    """chance = 1 / (1 + exp(-(slope * log-odds + intercept))) (Platt 1999)."""

    slope: float = 1.0
    intercept: float = 0.0

    def chance(self, log_odds: np.ndarray) -> np.ndarray:
        """Chances from 0 to 1: float64 (n,)."""
        straight = self.slope * log_odds.astype(np.float64) + self.intercept
        return 1 / (1 + np.exp(-np.clip(straight, -FARTHEST, FARTHEST)))
