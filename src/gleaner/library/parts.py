"""What to train on and what to judge by."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from gleaner.core.contests.parts import ContestParts, SplitStage, divide
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.rows import InteractionRows
from gleaner.core.errors import DataError
from gleaner.core.preparation.prepare import prepare_everything
from gleaner.core.preparation.recipe import Preparation
from gleaner.core.splits.split import Split
from gleaner.core.splits.truth import Truth


@dataclass(frozen=True, eq=False)
class SplitParts:
    """What to train on and what to judge by: models of `train` on validation, models of `whole`, which is training and
    validation together, on test. parts: the same as the engine of contests knows it."""

    parts: ContestParts
    seed: int

    @property
    def train(self) -> InteractionMatrix:
        """What models are fitted on to be judged on validation."""
        return self.parts.stages[0].train

    @property
    def validation(self) -> Truth:
        """What is relevant of the validation part."""
        return self._stage("validation").truth

    @property
    def whole(self) -> InteractionMatrix:
        """What models are fitted on to be judged on test: training and validation together."""
        return self.parts.stages[-1].train

    @property
    def test(self) -> Truth:
        """What is relevant of the test part."""
        return self._stage("test").truth

    def _stage(self, part: Any) -> SplitStage:
        stage = self.parts.stage(part)
        if stage is None:
            raise DataError(f"the {part} part is empty", where=part)
        return stage

    def __repr__(self) -> str:
        lines = ["Parts"]
        for stage in self.parts.stages:
            matrix, truth = stage.train, stage.truth
            lines.append(
                f"  {stage.part}: {matrix.n_cells:,} training cells ({matrix.shape[0]:,} users x {matrix.shape[1]:,} "
                f"items), {len(truth.indices):,} held-out items of {len(truth.user_rows):,} users"
            )
        return "\n".join(lines)


def split(
    rows: InteractionRows,
    *,
    by: str = "time",
    test: float = 0.1,
    validation: float = 0.1,
    test_from: datetime | None = None,
    seed: int = 1,
    **prepare: Any,
) -> SplitParts:
    """Prepare and divide. `prepare` takes the steps of a Preparation: kinds, merge, min_user, half_life_days, use, ...

    by: time, rows, user_rows or last. Whatever a step learns it learns from training rows.
    """
    rule = Split(by=by, test=test, validation=validation, test_from=test_from, seed=seed)  # type: ignore[arg-type]
    return SplitParts(divide(rows, Preparation(**prepare), rule, lambda done, message: None), seed)


def matrix(rows: InteractionRows, **prepare: Any) -> InteractionMatrix:
    """A training matrix of all rows, for release. `prepare` as in `split`."""
    return prepare_everything(rows, Preparation(**prepare)).matrix
