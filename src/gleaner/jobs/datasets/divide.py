"""Preparation and split as a file declares them, with their reports: what contests, and `data split`, begin with."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import pyarrow.parquet as pq

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.rows import InteractionRows
from gleaner.core.models.base.watching import Held
from gleaner.core.preparation.prepare import Preparation, Prepared, Step, history_matrix, keep_rows, prepare
from gleaner.core.preparation.transforms import Transform
from gleaner.core.splits.leaks import check_leaks
from gleaner.core.splits.split import Parts, Split, split, split_folds
from gleaner.core.splits.truth import Relevance, Truth, truth_of
from gleaner.wire.contests.contest import PrepareSpec, SplitSpec
from gleaner.wire.contests.runs import LeakReport, PartReport, StepReport

Tell = Callable[[float, str], None]


@dataclass(frozen=True, eq=False)
class Own:
    """What one contender is fitted on instead, over the same users and items; shown as in Stage."""

    train: InteractionMatrix
    shown: InteractionMatrix | None = None


@dataclass(frozen=True, eq=False)
class SplitStage:
    """One part to be scored: what to fit on, what to compare with, and, for users held out whole, what is shown.

    own: what contenders with a preparation of their own are fitted on, by label.
    """

    part: str
    fold: int | None
    prepared: Prepared
    truth: Truth
    held: InteractionRows
    shown: InteractionMatrix | None = None
    own: dict[str, Own] = field(default_factory=dict)

    @property
    def train(self) -> InteractionMatrix:
        """The matrix to fit on; its items are what each user has already."""
        return self.prepared.matrix

    def own_of(self, label: str) -> Own:
        """What a contender is fitted on."""
        return self.own.get(label) or Own(self.train, self.shown)

    def held_cells(self, *, values: bool) -> Held | None:
        """What is scored, as cells of the matrix to fit on: new items of users, or values. None for users held out."""
        if self.shown is not None:
            return None
        if not values:
            counts = np.diff(self.truth.indptr)
            return Held(np.repeat(self.truth.user_rows, counts), self.truth.indices)
        users = self.train.users.rows(self.held.users.take(self.held.frame["user"].to_numpy()))
        items = self.train.items.rows(self.held.items.take(self.held.frame["item"].to_numpy()))
        known = (users >= 0) & (items >= 0)
        measures = self.held.frame["measure"].to_numpy()[known].astype(np.float32)
        return Held(users[known], items[known], measures)


@dataclass(frozen=True, eq=False)
class Divided:
    """Everything a contest needs: stages in order, validation before test; reports; with folds the matrix of all."""

    stages: list[SplitStage]
    steps: list[Step]
    reports: list[PartReport]
    left_out: dict[str, int]
    whole: Prepared | None = None
    whole_own: dict[str, Own] = field(default_factory=dict)

    def step_reports(self) -> list[StepReport]:
        """The steps as messages."""
        return [StepReport(**vars(step)) for step in self.steps]


def preparation_of(spec: PrepareSpec) -> Preparation:
    """The declared preparation. Raises ParameterError."""
    plain = spec.model_dump(exclude={"window", "transform"})
    steps = tuple(Transform(step.name, tuple(step.by)) for step in spec.transform)
    return Preparation(**plain, **spec.window.model_dump(), transform=steps)


def split_of(spec: SplitSpec, seed: int) -> Split:
    """The declared split. Raises ParameterError or DataError."""
    given = spec.model_dump()
    if spec.by == "last":
        given |= {"test": int(spec.test), "validation": int(spec.validation)}
    return Split(**given, seed=seed)


def read_rows(path: Path, scale: tuple[float, float] | None = None) -> InteractionRows:
    """The interactions of a version, ids as codes; scale: the declared lowest and highest value."""
    wanted = [name for name in pq.read_schema(path).names if name in ("user", "item", "kind", "time", "value", "part")]
    table = pq.read_table(path, columns=wanted, read_dictionary=["user", "item", "kind", "part"])
    return InteractionRows.from_arrow(table, scale)


def divide(
    rows: InteractionRows,
    prepare_spec: PrepareSpec,
    split_spec: SplitSpec,
    seed: int,
    tell: Tell,
    relevance: Relevance = Relevance(),
    own: dict[str, PrepareSpec] = {},  # noqa: B006  (read only)
) -> Divided:
    """Prepare, split, check for leaks, build every matrix. `tell` hears the share done. own: preparations of single
    contenders, on the rows that the common one keeps. Raises DataError."""
    others = {label: preparation_of(spec) for label, spec in own.items()}
    how, cut = preparation_of(prepare_spec), split_of(split_spec, seed)
    tell(0.0, "preparing")
    kept, steps = keep_rows(rows, how)
    tell(0.2, "splitting")
    divisions = split_folds(kept, cut) if cut.by == "folds" else [split(kept, cut)]
    stages: list[SplitStage] = []
    reports: list[PartReport] = []
    for place, parts in enumerate(divisions):
        tell(0.3 + 0.7 * place / len(divisions), "building the matrices")
        fold = place + 1 if cut.by == "folds" else None
        made, told = _stages(parts, how, cut.by, fold, relevance, others)
        stages += made
        reports += told
    whole = prepare(kept, how) if cut.by == "folds" else None
    whole_own = {} if whole is None else {label: _own(kept, other, whole) for label, other in others.items()}
    last = whole or stages[-1].prepared
    return Divided(stages, steps + last.steps, reports, divisions[0].left_out, whole, whole_own)


def _own(
    rows: InteractionRows,
    how: Preparation,
    common: Prepared,
    shown_rows: InteractionRows | None = None,
    shown: InteractionMatrix | None = None,
) -> Own:
    """Rows of a training part by another preparation, over the users and items of the common one."""
    users, items = common.matrix.users, common.matrix.items
    made = prepare(_kept_by(rows, how), how)
    if shown_rows is None or shown is None:
        return Own(made.matrix.onto(users, items))
    own_shown = history_matrix(_kept_by(shown_rows, how), made.recipe, items)
    return Own(made.matrix.onto(users, items), own_shown.onto(shown.users, items))


def _kept_by(rows: InteractionRows, how: Preparation) -> InteractionRows:
    return keep_rows(rows.with_frame(rows.frame.drop("measure")), how)[0]


def _stages(
    parts: Parts, how: Preparation, rule: str, fold: int | None, relevance: Relevance, others: dict[str, Preparation]
) -> tuple[list[SplitStage], list[PartReport]]:
    stages, reports = [], [_report("training", parts.train, fold)]
    both = parts.train_and_validation()
    held = [("validation", parts.validation, parts.train, parts.shown_validation, parts.validation_from),
            ("test", parts.test, both, parts.shown_test, parts.test_from)]  # fmt: skip
    for name, part, seen, shown_rows, starts in held:
        report = _report(name, part, fold)
        report.starts = starts
        reports.append(report)
        if not len(part):
            continue
        made = prepare(seen, how)
        shown = None if shown_rows is None else history_matrix(shown_rows, made.recipe, made.matrix.items)
        truth = truth_of(part, made.matrix, shown, relevance)
        own = {label: _own(seen, other, made, shown_rows, shown) for label, other in others.items()}
        stages.append(SplitStage(name, fold, made, truth, part, shown, own))
        leak = check_leaks(name, part, seen, rule)
        report.leak = LeakReport(**{key: value for key, value in vars(leak).items() if key != "part"})
        report.shown = None if shown_rows is None else len(shown_rows)
        report.users_counted, report.pairs_counted = len(truth.user_rows), len(truth.indices)
        report.unseen_users, report.unseen_items = truth.unseen_users, truth.unseen_items
        report.known_pairs, report.not_relevant = truth.known_pairs, truth.not_relevant
    return stages, reports


def _report(name: str, part: InteractionRows, fold: int | None) -> PartReport:
    users, items = (
        int((np.bincount(part.frame[side].to_numpy()) > 0).sum()) if len(part) else 0 for side in ("user", "item")
    )
    return PartReport(part=name, fold=fold, rows=len(part), users=users, items=items)
