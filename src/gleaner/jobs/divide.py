"""Preparation and split as a file declares them, with their reports: what contests, and `data split`, begin with."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pyarrow.parquet as pq

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.leaks import check_leaks
from gleaner.core.data.prepare import Preparation, Prepared, Step, history_matrix, keep_rows, prepare
from gleaner.core.data.rows import InteractionRows
from gleaner.core.data.split import Parts, Split, split, split_folds
from gleaner.core.data.transforms import Transform
from gleaner.core.data.truth import Relevance, Truth, truth_of
from gleaner.core.models.watching import Held
from gleaner.wire.contests import PrepareSpec, SplitSpec
from gleaner.wire.runs import LeakReport, PartReport, StepReport

Tell = Callable[[float, str], None]


@dataclass(frozen=True, eq=False)
class Stage:
    """One part to be scored: what to fit on, what to compare with, and, for users held out whole, what is shown."""

    part: str
    fold: int | None
    prepared: Prepared
    truth: Truth
    held: InteractionRows
    shown: InteractionMatrix | None = None

    @property
    def train(self) -> InteractionMatrix:
        """The matrix to fit on."""
        return self.prepared.matrix

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

    stages: list[Stage]
    steps: list[Step]
    reports: list[PartReport]
    left_out: dict[str, int]
    whole: Prepared | None = None

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
) -> Divided:
    """Prepare, split, check for leaks, build every matrix. `tell` hears the share done. Raises DataError."""
    how, cut = preparation_of(prepare_spec), split_of(split_spec, seed)
    tell(0.0, "preparing")
    kept, steps = keep_rows(rows, how)
    tell(0.2, "splitting")
    divisions = split_folds(kept, cut) if cut.by == "folds" else [split(kept, cut)]
    stages: list[Stage] = []
    reports: list[PartReport] = []
    for place, parts in enumerate(divisions):
        tell(0.3 + 0.7 * place / len(divisions), "building the matrices")
        fold = place + 1 if cut.by == "folds" else None
        made, told = _stages(parts, how, cut.by, fold, relevance)
        stages += made
        reports += told
    whole = prepare(kept, how) if cut.by == "folds" else None
    last = whole or stages[-1].prepared
    return Divided(stages, steps + last.steps, reports, divisions[0].left_out, whole)


def _stages(
    parts: Parts, how: Preparation, rule: str, fold: int | None, relevance: Relevance
) -> tuple[list[Stage], list[PartReport]]:
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
        stages.append(Stage(name, fold, made, truth, part, shown))
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
