"""What training reports while it runs, and what may stop it."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np
import polars as pl

from gleaner.core.errors import CancelledError, require_range
from gleaner.core.models.base.capabilities import HasLoss

if TYPE_CHECKING:
    from gleaner.core.models.base.protocol import Arrays, Model
    from gleaner.core.models.composition.fit_cache import FitCache

Progress = Callable[[float, int], bool]
"""Receives the share of the work done, 0 to 1, and the iteration; answers False to cancel."""

Judge = Callable[["Model"], dict[str, float]]
"""Validation metrics of a model as it stands."""

COLLAPSED = 1e-4
"""A factor whose length is below this share of the longest carries nothing."""


@dataclass(frozen=True)
class TrainingRound:
    """One iteration: seconds since the start, mean losses, validation metrics (in rounds that were judged)."""

    iteration: int
    seconds: float
    losses: dict[str, float]
    metrics: dict[str, float]


@dataclass(frozen=True, eq=False)
class HeldOutCells:
    """Cells held out of training, in its rows. users and items int32 (n,); values float32 (n,), None where having an
    item is all there is; context: a row of each, where one was kept."""

    users: np.ndarray
    items: np.ndarray
    values: np.ndarray | None = None
    context: pl.DataFrame | None = None


class StopsEarly(ABC):
    """Learns until the rounds that are judged get no better: `iterations` is the most it takes, and a fit without a
    judge takes as many as one with a judge found best."""

    iterations: int

    @property
    @abstractmethod
    def stops_early(self) -> bool:
        """Whether this one does."""


@dataclass(frozen=True, eq=False)
class Checkpoint:
    """A fit after a whole iteration, from which another process can go on. arrays: what the model needs for it; best:
    the state of the best iteration, empty where none is kept; record: what a watch had seen, as JSON values."""

    iteration: int
    arrays: Arrays
    best: Arrays
    record: dict[str, Any]


class Checkpoints(Protocol):
    """Where the checkpoints of one fit are kept."""

    def load(self) -> Checkpoint | None:
        """The latest; None where there is none."""

    def save(self, checkpoint: Checkpoint) -> None:
        """Keep one instead of those before."""


@dataclass
class Watch:
    """Follows one fit. Give it to `fit`, read `rounds`, `best` and `warnings` afterwards.

    held_out: cells whose loss is reported beside that of training, without the penalty, by models that have one.
    progress: heard at least once an iteration. judge: called every `every` iterations; its metric `decide_by` (higher
    is better, unless `lower_is_better`) picks the best iteration, whose state is kept. patience: stop after so many
    judged rounds without a better one; 0 never stops. end_round: called with every finished round. clock: seconds, for
    the times of rounds. lent: models that were fitted before, for those that have them as members; borrowed: the
    families of those that were taken. judged_later: whether what the model is to be judged by, or asked, comes after
    what it learns from; not where a contest divides at random. checkpoints: where a fit that takes long leaves what a
    later one can go on from.
    """

    held_out: HeldOutCells | None = None
    progress: Progress | None = None
    judge: Judge | None = None
    decide_by: str = ""
    lower_is_better: bool = False
    every: int = 1
    patience: int = 0
    end_round: Callable[[TrainingRound], None] | None = None
    clock: Callable[[], float] = lambda: 0.0
    lent: FitCache | None = None
    judged_later: bool = True
    checkpoints: Checkpoints | None = None
    rounds: list[TrainingRound] = field(default_factory=list, init=False)
    warnings: list[str] = field(default_factory=list, init=False)
    best: int | None = field(default=None, init=False)
    stopped: bool = field(default=False, init=False)
    borrowed: list[str] = field(default_factory=list, init=False)
    _best_value: float = field(default=-math.inf, init=False)
    _best_state: Arrays | None = field(default=None, init=False)
    _waited: int = field(default=0, init=False)
    _begun: float = field(default=0.0, init=False)

    def __post_init__(self) -> None:
        self._begun = self.clock()
        require_range("every", self.every, 1, whole=True)
        require_range("patience", self.patience, 0, whole=True)

    @property
    def follows(self) -> bool:
        """Whether losses are worth computing: someone listens, or the rounds are judged."""
        return self.end_round is not None or self.judge is not None

    def report_progress(self, done: float, iteration: int = 1) -> None:
        """Progress between rounds. Raises CancelledError when the caller wants no more."""
        if self.progress is not None and self.progress(min(done, 1.0), iteration) is False:
            raise CancelledError

    def part(self, start: float, stop: float, iteration: int = 1) -> Callable[[float], bool]:
        """Progress of one stretch of the work, for `run_ranges`."""

        def share(done: float) -> bool:
            self.report_progress(start + (stop - start) * done, iteration)
            return True

        return share

    def round(self, model: Model, iteration: int, of: int, losses: dict[str, float]) -> bool:
        """End an iteration: the model must answer as it stands. True to go on, False to stop early."""
        metrics: dict[str, float] = {}
        if self.judge is not None and (iteration % self.every == 0 or iteration == of):
            metrics = self.judge(model)
        self.note(TrainingRound(iteration, self.clock() - self._begun, losses | self._held_loss(model), metrics))
        self.report_progress(iteration / of, iteration)
        return self._weigh(model, iteration, metrics) if metrics else True

    def _held_loss(self, model: Model) -> dict[str, float]:
        if not isinstance(model, HasLoss) or not self.follows or self.held_out is None or not len(self.held_out.users):
            return {}
        loss = model.held_out_loss(self.held_out)
        return {} if loss is None else {"validation": loss}

    def note(self, done: TrainingRound) -> None:
        """Keep a round, with a warning where its losses go wrong."""
        for name, loss in done.losses.items():
            earlier = [each.losses[name] for each in self.rounds if name in each.losses]
            if not math.isfinite(loss):
                self.warn(f"{name} loss is no longer a number at iteration {done.iteration}; lower the learning rate")
            elif len(earlier) > 1 and loss > 1.5 * max(min(earlier), 1e-12) and loss > earlier[-1]:
                self.warn(f"{name} loss rises: {loss:.4g} at iteration {done.iteration}, {min(earlier):.4g} before")
        self.rounds.append(done)
        if self.end_round is not None:
            self.end_round(done)

    def warn(self, text: str) -> None:
        """Keep a warning, once of each sort."""
        sort = text.split(":")[0].split(" at ")[0]
        if not any(kept.startswith(sort) for kept in self.warnings):
            self.warnings.append(text)

    def _weigh(self, model: Model, iteration: int, metrics: dict[str, float]) -> bool:
        value = metrics[self.decide_by] * (-1 if self.lower_is_better else 1)
        if value > self._best_value:
            self.best, self._best_value, self._waited = iteration, value, 0
            if self.patience:
                self._best_state = {name: array.copy() for name, array in model.state().items()}
            return True
        self._waited += 1
        self.stopped = bool(self.patience) and self._waited >= self.patience
        return not self.stopped

    def save(self, iteration: int, make_arrays: Callable[[], Arrays]) -> None:
        """Keep a checkpoint of a whole iteration, where one is wanted."""
        if self.checkpoints is None:
            return
        record = {"rounds": [asdict(each) for each in self.rounds], "warnings": self.warnings, "best": self.best}
        record |= {"best_value": self._best_value if self.best else None, "waited": self._waited}
        self.checkpoints.save(Checkpoint(iteration, make_arrays(), self._best_state or {}, record))

    def resumed(self) -> Checkpoint | None:
        """The latest checkpoint of this fit, the watch being as it was then; None where there is none."""
        kept = None if self.checkpoints is None else self.checkpoints.load()
        if kept is None:
            return None
        self.rounds = [TrainingRound(**each) for each in kept.record["rounds"]]
        self.warnings, self.best, self._waited = kept.record["warnings"], kept.record["best"], kept.record["waited"]
        if self.best is not None:
            self._best_value, self._best_state = kept.record["best_value"], kept.best or None
        if self.rounds:
            self._begun -= self.rounds[-1].seconds
        if self.end_round is not None:
            for each in self.rounds:
                self.end_round(each)
        return kept

    def keep_best(self) -> Arrays | None:
        """The state of the best iteration where patience was asked for and a later one was worse."""
        return self._best_state if self._waited else None


def dead_factors(factors: np.ndarray) -> list[int]:
    """Columns of float32 (n, rank) that carry nothing beside the others: a collapsed factor."""
    if not factors.size:
        return []
    lengths = np.sqrt((factors.astype(np.float64) ** 2).sum(axis=0))
    return [int(f) for f in np.flatnonzero(lengths < COLLAPSED * lengths.max())]


def stops_early(model: Model) -> bool:
    """Whether judged rounds end the learning, and say how many iterations a fit without a judge is to take."""
    return isinstance(model, StopsEarly) and model.stops_early
