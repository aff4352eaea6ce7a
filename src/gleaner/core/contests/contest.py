"""A contest while it runs: what all its contenders share, and what is known of those that are done."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from math import inf
from typing import Any

import numpy as np

from gleaner.core.contests.judging import StageJudge
from gleaner.core.contests.listening import ContestListener
from gleaner.core.contests.parts import ContestParts, SplitStage
from gleaner.core.contests.plan import ContestPlan
from gleaner.core.contests.side_tables import SideTables
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.ties import tie_order
from gleaner.core.metrics.evaluation import RankPlan
from gleaner.core.metrics.exposure import ContentVectors
from gleaner.core.models.base.protocol import Model
from gleaner.core.models.base.registry import build
from gleaner.core.models.composition.fit_cache import FitCache
from gleaner.core.tuning.space import settled


@dataclass(frozen=True, eq=False)
class KnownContender:
    """What the engine remembers of a contender that is done: its family and parameters, its figure that decides (None:
    it has none), and that metric by user of the test part, float64 (n_users,)."""

    family: str
    params: dict[str, Any]
    deciding: float | None
    by_user: np.ndarray | None


@dataclass(eq=False)
class Contest:
    """The plan, the parts with their tie orders and contents, the tables, and who listens. known: contenders that are
    done, by label. lent: fitted models that others are made of."""

    plan: ContestPlan
    parts: ContestParts
    tables: SideTables
    listener: ContestListener
    ties: list[np.ndarray]
    contents: list[ContentVectors]
    known: dict[str, KnownContender] = field(default_factory=dict)
    lent: FitCache = field(default_factory=FitCache)

    @classmethod
    def of(cls, plan: ContestPlan, parts: ContestParts, tables: SideTables, listener: ContestListener) -> Contest:
        """Ready to run. Raises DataError where a metric needs columns that are not there, InputError where a contender
        names a text encoder that is not."""
        items = [stage.train.items for stage in parts.stages]
        ties = [tie_order(each, plan.seed) for each in items]
        contents = [tables.content(each, plan.content, plan.categories) for each in items]
        models = [build(each.family, settled(each.family, each.params)) for each in plan.contenders]
        _require_text_encoders(models, tables)
        lent = FitCache.of_members(models)
        return cls(plan, parts, tables, listener, ties, contents, lent=lent)

    @property
    def tuning_place(self) -> int:
        """The place of the stage that tuning looks at: the validation part."""
        place = self.parts.validation
        assert place is not None
        return place

    @property
    def tuned_on(self) -> SplitStage:
        """That stage."""
        return self.parts.stages[self.tuning_place]

    @property
    def deciding_part(self) -> str:
        """The part whose figures choose: validation where there is one, so that the test part chooses nothing."""
        return self.parts.stages[0].part

    @property
    def labels(self) -> list[str]:
        """The contenders that are done, in the order in which they are run."""
        return [each.label for each in self.plan.in_order() if each.label in self.known]

    def final_of(self, label: str) -> InteractionMatrix:
        """What the model of a contender that is kept is fitted on."""
        own = self.parts.own_final(label)
        return self.parts.final if own is None else own.train

    def judge(self, place: int, label: str, plan: RankPlan) -> StageJudge:
        """Scores models of a contender on the stage of a place."""
        stage = self.parts.stages[place]
        return StageJudge(stage, plan, self.ties[place], self.contents[place], stage.own_of(label))

    def winner(self) -> str:
        """The best contender on the part that chooses; the first of equals, in the order in which they are run."""
        sign = self.plan.sign

        def standing(label: str) -> float:
            # one without the figure, such as the spread of lists of one item, cannot win
            figure = self.known[label].deciding
            return -inf if figure is None else sign * figure

        return max(self.labels, key=standing)


def _require_text_encoders(models: Sequence[Model], tables: SideTables) -> None:
    """Before anything is fitted. Raises InputError naming one that is not there."""
    for model in models:
        _require_text_encoders(model.members_of(), tables)
        name = model.params().get("text_encoder")
        if name is not None:
            tables.text_encoders.folder(name)
