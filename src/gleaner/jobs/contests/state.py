"""A contest while it runs: what all its contenders share."""

from __future__ import annotations

from dataclasses import dataclass, field
from math import inf
from pathlib import Path

import numpy as np
import polars as pl

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.rows import InteractionRows
from gleaner.core.data.ties import tie_order
from gleaner.core.errors import DataError
from gleaner.core.evaluation import RankPlan
from gleaner.core.metrics.catalogue import better_sign, split_name
from gleaner.core.metrics.content import content_of
from gleaner.core.metrics.exposure import ContentVectors
from gleaner.core.splits.truth import Relevance
from gleaner.jobs.datasets.divide import Own, SplitStage, divide
from gleaner.jobs.datasets.side_tables import SideTables
from gleaner.jobs.models.model_files import keep_matrix
from gleaner.jobs.worker.context import JobContext
from gleaner.store import contests, datasets
from gleaner.store.artefacts import Artefact
from gleaner.store.contests import RunPlan
from gleaner.wire.contests.contest import ContenderSpec, ContestSpec
from gleaner.wire.contests.runs import Figure, StepReport

PREPARED = 0.05


@dataclass(eq=False)
class Contest:
    """Stages with their tie orders and contents, the matrix that released models stand on, and what is known so far.

    files: figures per user, deciding: the figure that decides, params: those found or given; each by label.
    """

    context: JobContext
    plan: RunPlan
    stages: list[SplitStage]
    ties: list[np.ndarray]
    contents: list[ContentVectors]
    final: InteractionMatrix
    final_own: dict[str, Own]
    refit: bool
    trained_on: str
    tables: SideTables
    files: dict[str, Path] = field(default_factory=dict)
    deciding: dict[str, float] = field(default_factory=dict)
    params: dict[str, dict[str, object]] = field(default_factory=dict)
    _matrices: dict[str, Artefact] = field(default_factory=dict)

    @property
    def spec(self) -> ContestSpec:
        """The contest's file."""
        return self.plan.spec

    @property
    def baseline(self) -> str:
        """The label of the contender that all others are told against."""
        return self.spec.baseline

    @property
    def sign(self) -> int:
        """1 where more of the deciding metric is better, -1 where less is."""
        return better_sign(self.spec.rank.decide_by)

    @property
    def validation(self) -> int | None:
        """The place of the stage that tuning and learning curves look at."""
        return next((place for place, stage in enumerate(self.stages) if stage.part == "validation"), None)

    def rank_plan(self) -> RankPlan:
        """Every metric asked for."""
        return RankPlan(self.spec.rank.metrics, self.spec.rank.at, self.spec.seed)

    def deciding_plan(self) -> RankPlan:
        """The deciding metric alone."""
        name, cut = split_name(self.spec.rank.decide_by)
        return RankPlan([name], [cut or max(self.spec.rank.at)], self.spec.seed)

    def final_of(self, label: str) -> InteractionMatrix:
        """What a contender's registered model is fitted on."""
        return self.final_own[label].train if label in self.final_own else self.final

    def matrix_of(self, label: str) -> Artefact:
        """The kept matrix that a registered model stands on: one for all, and one for each with its own preparation."""
        name = label if label in self.final_own else ""
        if name not in self._matrices:
            self._matrices[name] = keep_matrix(self.context.artefacts, self.final_of(label), self.context.staging)
        return self._matrices[name]

    def note_deciding(self, label: str, figures: list[Figure]) -> None:
        """Remember the figure that decides: on validation where there is one, so that the test part chooses nothing."""
        part, decide_by = self.stages[0].part, self.spec.rank.decide_by
        found = next((f.mean for f in figures if f.part == part and f.metric == decide_by), None)
        # a contender without the figure, such as the spread of lists of one item, cannot win
        self.deciding[label] = -self.sign * inf if found is None else found


def prepared(context: JobContext, plan: RunPlan, rows: InteractionRows, files: datasets.VersionFiles) -> Contest:
    """Preparation and split, with their reports kept at once."""
    spec = plan.spec

    def tell(done: float, message: str) -> None:
        context.require_going(0.01 + (PREPARED - 0.01) * done, message)

    relevance = Relevance(**spec.rank.relevant.model_dump())
    own = {each.label: each.prepare for each in spec.contenders if each.prepare is not None}
    made = divide(rows, spec.prepare, spec.split, spec.seed, tell, relevance, own)
    steps = made.step_reports()
    for why, n in made.left_out.items():
        steps.insert(0, StepReport(name="split", rows_in=len(rows), rows_out=len(rows) - n, note=f"{n:,} rows {why}"))
    with context.engine.begin() as connection:
        contests.set_reports(connection, plan.id, steps, made.reports)
    stages = made.stages
    if made.whole is not None:
        trained_on = "everything; scored on folds"
    else:
        trained_on = "training and validation" if any(stage.part == "validation" for stage in stages) else "training"
    return Contest(
        context=context,
        plan=plan,
        stages=stages,
        ties=[tie_order(stage.train.items, spec.seed) for stage in stages],
        contents=_contents(context, plan, stages, files),
        final=(made.whole or stages[-1].prepared).matrix,
        final_own=made.whole_own or stages[-1].own,
        refit=made.whole is not None,
        trained_on=trained_on,
        tables=SideTables(context, files),
    )


def _contents(
    context: JobContext, plan: RunPlan, stages: list[SplitStage], files: datasets.VersionFiles
) -> list[ContentVectors]:
    """What diversity and calibration look at, for the items of every stage."""
    rank = plan.spec.rank
    if not rank.content and rank.categories is None:
        return [ContentVectors() for _ in stages]
    if files.items_file is None:
        raise DataError(f"{files.name} has no item table, and rank.content or rank.categories names columns of one")
    table = pl.read_parquet(context.artefacts.local_path(files.items_file))
    with context.engine.begin() as connection:
        columns = datasets.version(connection, files.name).item_columns
    types = {column.name: column.type for column in columns}
    return [content_of(table, stage.train.items, rank.content, rank.categories, types) for stage in stages]


def ordered(contest: ContestSpec) -> list[ContenderSpec]:
    """The baseline first: every other is told against it; what lacks a part last: it takes the parameters found for
    the whole."""
    return sorted(contest.contenders, key=lambda each: (each.label != contest.baseline, each.ablates is not None))
