"""Preparation and split: what every contender of a contest is fitted on and scored by, made once for all of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Literal

import numpy as np

from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.rows import InteractionRows
from gleaner.core.models.base.watching import HeldOutCells
from gleaner.core.preparation.prepare import Prepared, Step, history_matrix, keep_rows, prepare, prepare_everything
from gleaner.core.preparation.recipe import Preparation
from gleaner.core.splits.leaks import Leak, check_leaks
from gleaner.core.splits.split import Parts, Split, split, split_folds
from gleaner.core.splits.truth import Relevance, Truth, truth_of

PartName = Literal["training", "validation", "test"]
ScoredPart = Literal["validation", "test"]

ReportProgress = Callable[[float, str], None]
"""Hears the share of the work done, 0 to 1, and what is being done. Raises CancelledError to stop."""


@dataclass(frozen=True, eq=False)
class OwnTraining:
    """What one contender is fitted on instead, over the same users and items; shown as in SplitStage."""

    train: InteractionMatrix
    shown: InteractionMatrix | None = None


@dataclass(frozen=True, eq=False)
class SplitStage:
    """One part to be scored: what to fit on, what to compare with, and, for users held out whole, what is shown.

    held_out: the rows of the part; None where only what is relevant is known, so that values cannot be scored.
    own: what contenders with a preparation of their own are fitted on, by label.
    """

    part: ScoredPart
    fold: int | None
    prepared: Prepared
    truth: Truth
    held_out: InteractionRows | None = None
    shown: InteractionMatrix | None = None
    own: dict[str, OwnTraining] = field(default_factory=dict)

    @property
    def train(self) -> InteractionMatrix:
        """The matrix to fit on; its items are what each user has already."""
        return self.prepared.matrix

    @property
    def known(self) -> InteractionMatrix:
        """What is known of the users who are scored: what was shown of them, or training."""
        return self.train if self.shown is None else self.shown

    @property
    def goal(self) -> str:
        """What a fit for this stage is for."""
        return self.part if self.fold is None else f"fold {self.fold} ({self.part})"

    def own_of(self, label: str) -> OwnTraining:
        """What a contender is fitted on."""
        return self.own.get(label) or OwnTraining(self.train, self.shown)

    def held_out_cells(self, *, values: bool) -> HeldOutCells | None:
        """What is scored, as cells of the matrix to fit on: new items of users, or values. None for users held out."""
        if self.shown is not None:
            return None
        if not values:
            counts = np.diff(self.truth.indptr)
            return HeldOutCells(np.repeat(self.truth.user_rows, counts), self.truth.indices)
        if self.held_out is None:
            return None
        users = self.train.users.rows(self.held_out.users.take(self.held_out.frame["user"].to_numpy()))
        items = self.train.items.rows(self.held_out.items.take(self.held_out.frame["item"].to_numpy()))
        known = (users >= 0) & (items >= 0)
        measures = self.held_out.frame["measure"].to_numpy()[known].astype(np.float32)
        context = self.held_out.context
        return HeldOutCells(users[known], items[known], measures, None if context is None else context.filter(known))


@dataclass(frozen=True)
class PartFacts:
    """What one part of a split holds.

    starts: the moment from which on rows are in it. shown: rows of held-out users that a model is shown. leak: against
    what a model of the stage learns. truth: who and what counts. Both are None of training, and of an
    empty part. new_users, new_items: those of the truth that training never saw, where such are kept.
    """

    part: PartName
    fold: int | None
    rows: int
    users: int
    items: int
    starts: datetime | None = None
    shown: int | None = None
    leak: Leak | None = None
    truth: Truth | None = None
    new_users: int | None = None
    new_items: int | None = None


@dataclass(frozen=True, eq=False)
class ContestParts:
    """Everything a contest stands on: stages in order, validation before test; what was done; with folds what all rows
    together make. left_out: rows of no part, by reason. judged_later: whether held-out rows come after those that are
    learned from, of everyone or of each user."""

    stages: list[SplitStage]
    steps: list[Step]
    facts: list[PartFacts]
    left_out: dict[str, int]
    judged_later: bool = True
    whole: Prepared | None = None
    whole_own: dict[str, OwnTraining] = field(default_factory=dict)

    @property
    def validation(self) -> int | None:
        """The place of the stage that tuning and learning curves look at."""
        return next((place for place, stage in enumerate(self.stages) if stage.part == "validation"), None)

    @property
    def final(self) -> InteractionMatrix:
        """What the models that are kept are fitted on: all rows with folds, else training and validation."""
        return (self.whole or self.stages[-1].prepared).matrix

    def own_final(self, label: str) -> OwnTraining | None:
        """The same for a contender with a preparation of its own; None for any other."""
        return (self.whole_own if self.whole else self.stages[-1].own).get(label)

    def stage(self, part: ScoredPart) -> SplitStage | None:
        """The first stage of a part; None where it is empty."""
        return next((stage for stage in self.stages if stage.part == part), None)


def divide(
    rows: InteractionRows,
    preparation: Preparation,
    rule: Split,
    report_progress: ReportProgress,
    relevance: Relevance = Relevance(),
    own: dict[str, Preparation] = {},  # noqa: B006  (read only)
) -> ContestParts:
    """Prepare, split, check for leaks, build every matrix. own: preparations of single contenders, on the rows that the
    common one keeps. Raises DataError."""
    report_progress(0.0, "preparing")
    kept, steps = keep_rows(rows, preparation)
    report_progress(0.2, "splitting")
    divisions = split_folds(kept, rule) if rule.by == "folds" else [split(kept, rule)]
    stages: list[SplitStage] = []
    facts: list[PartFacts] = []
    for place, parts in enumerate(divisions):
        report_progress(0.3 + 0.7 * place / len(divisions), "building the matrices")
        fold = place + 1 if rule.by == "folds" else None
        own_stages, own_facts = _stages(parts, preparation, rule, fold, relevance, own)
        stages += own_stages
        facts += own_facts
    # where the test part is no later than training, what is kept learns of everything
    whole = prepare(kept, preparation) if rule.by in ("folds", "items") else None
    whole_own = {} if whole is None else {label: _own(kept, other, whole) for label, other in own.items()}
    last = whole or stages[-1].prepared
    leaks = [each.leak for each in facts if each.leak is not None]
    later = rule.by in ("last", "users") or all(each.early_rows == 0 for each in leaks)
    if whole is None:
        steps.append(_split_step(len(kept), divisions[-1], last))
    return ContestParts(stages, steps + last.steps, facts, divisions[0].left_out, later, whole, whole_own)


def _split_step(n_rows: int, parts: Parts, trained: Prepared) -> Step:
    """Return how many rows the split leaves for the models that are kept, and where the others are."""
    n_trained = trained.steps[0].rows_in
    elsewhere = {"in the test part": len(parts.test)} | parts.left_out
    if parts.shown_test is not None:
        elsewhere["of held-out users, shown to the models"] = len(parts.shown_test)
    note = ", ".join(f"{n:,} rows {where}" for where, n in elsewhere.items() if n)
    return Step("split", n_rows, n_trained, note or "no row is held out")


def _own(
    rows: InteractionRows,
    preparation: Preparation,
    common: Prepared,
    shown_rows: InteractionRows | None = None,
    shown: InteractionMatrix | None = None,
) -> OwnTraining:
    """Rows of a training part by another preparation, over the users and items of the common one."""
    users, items = common.matrix.users, common.matrix.items
    prepared_own = prepare_everything(_unmeasured(rows), preparation)
    if shown_rows is None or shown is None:
        return OwnTraining(prepared_own.matrix.onto(users, items))
    own_rows, _ = keep_rows(_unmeasured(shown_rows), preparation)
    own_shown = history_matrix(own_rows, prepared_own.learned, items)
    return OwnTraining(prepared_own.matrix.onto(users, items), own_shown.onto(shown.users, items))


def _unmeasured(rows: InteractionRows) -> InteractionRows:
    """Rows as before a preparation measured them."""
    return rows.with_frame(rows.frame.drop("measure"))


def _stages(
    parts: Parts,
    preparation: Preparation,
    rule: Split,
    fold: int | None,
    relevance: Relevance,
    others: dict[str, Preparation],
) -> tuple[list[SplitStage], list[PartFacts]]:
    stages: list[SplitStage] = []
    facts = [_facts("training", parts.train, fold)]
    both = parts.train_and_validation()
    folds: list[tuple[ScoredPart, InteractionRows, InteractionRows, InteractionRows | None, datetime | None]] = [
        ("validation", parts.validation, parts.train, parts.shown_validation, parts.validation_from),
        ("test", parts.test, both, parts.shown_test, parts.test_from),
    ]
    for name, part, seen, shown_rows, starts in folds:
        part_facts = replace(_facts(name, part, fold), starts=starts)
        if len(part):
            prepared = prepare(seen, preparation)
            n_users, n_items = prepared.matrix.shape
            prepared = _with_new(prepared, part, rule)
            shown = None if shown_rows is None else history_matrix(shown_rows, prepared.learned, prepared.matrix.items)
            truth = truth_of(part, prepared.matrix, shown, relevance)
            if rule.by == "items":
                truth = replace(truth, candidates=np.arange(len(prepared.matrix.items)) >= n_items)
            own = {label: _own(seen, other, prepared, shown_rows, shown) for label, other in others.items()}
            stages.append(SplitStage(name, fold, prepared, truth, part, shown, own))
            part_facts = replace(
                part_facts,
                leak=check_leaks(name, part, seen, rule.by),
                truth=truth,
                shown=None if shown_rows is None else len(shown_rows),
                new_users=int((truth.user_rows >= n_users).sum()) if "users" in rule.keep else None,
                new_items=len(np.unique(truth.indices[truth.indices >= n_items])) if _keeps_items(rule) else None,
            )
        facts.append(part_facts)
    return stages, facts


def _keeps_items(rule: Split) -> bool:
    """Whether items that training never saw are judged."""
    return rule.by == "items" or "items" in rule.keep


def _with_new(prepared: Prepared, part: InteractionRows, rule: Split) -> Prepared:
    """With rows for who and what of a held-out part training never saw, where such are kept: they have no cell."""
    matrix = prepared.matrix
    users, items = matrix.users, matrix.items
    if "users" in rule.keep:
        users = _joined(users, part.users, part.frame["user"].to_numpy())
    if _keeps_items(rule):
        items = _joined(items, part.items, part.frame["item"].to_numpy())
    if users is matrix.users and items is matrix.items:
        return prepared
    return replace(prepared, matrix=matrix.onto(users, items))


def _joined(known: IdMap, ids: IdMap, rows: np.ndarray) -> IdMap:
    """The known ids, and behind them others that stand in some rows."""
    there = ids.take(np.unique(rows))
    return IdMap([*known.ids.to_pylist(), *(each for each in there if known.row(each) is None)])


def _facts(name: PartName, part: InteractionRows, fold: int | None) -> PartFacts:
    users, items = (
        int((np.bincount(part.frame[side].to_numpy()) > 0).sum()) if len(part) else 0 for side in ("user", "item")
    )
    return PartFacts(name, fold, len(part), users, items)
