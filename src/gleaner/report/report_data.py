"""Everything a report is made of."""

from __future__ import annotations

from dataclasses import dataclass, field

from gleaner.wire.contests.choosing import Choice
from gleaner.wire.contests.likelihoods import ContenderLikelihood
from gleaner.wire.contests.runs import Run, Segments, ValueReport
from gleaner.wire.contests.tuning import LearningCurve, Tuning
from gleaner.wire.datasets import DatasetVersion
from gleaner.wire.shelves.evaluations import ShelfEvaluation


@dataclass(frozen=True)
class ReportData:
    """A run that has ended, looked at from every side; what it has not is empty or None."""

    run: Run
    data: DatasetVersion
    choice: Choice
    against: Choice | None = None
    tunings: list[Tuning] = field(default_factory=list)
    curves: list[LearningCurve] = field(default_factory=list)
    segments: list[Segments] = field(default_factory=list)
    values: ValueReport | None = None
    likelihoods: list[ContenderLikelihood] = field(default_factory=list)
    shelves: list[ShelfEvaluation] = field(default_factory=list)

    @property
    def labels(self) -> list[str]:
        """Contenders in the order of the file, which gives each its colour and mark."""
        return [each.label for each in self.run.spec.contenders]

    def cut(self, metric: str) -> str:
        """A metric at the cut-off of the deciding one."""
        return f"{metric}@{self.run.spec.rank.cut}"
