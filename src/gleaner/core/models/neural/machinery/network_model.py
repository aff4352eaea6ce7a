"""What all networks share: epochs of gradient steps, watched, stopped, resumed, and kept as plain arrays."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar

import numpy as np

from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.errors import InputError, require_range
from gleaner.core.models.base.capabilities import HasLoss
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, Model, learned
from gleaner.core.models.base.watching import StopsEarly, Watch
from gleaner.core.models.neural.machinery.network_parts import HasNetwork
from gleaner.core.models.neural.machinery.optimiser import Optimiser
from gleaner.core.models.neural.machinery.pytorch import lacks_pytorch, pytorch


@dataclass(frozen=True, eq=False)
class Draws:
    """The random choices of one epoch, made from the seed and its number: so an epoch is the same after a restart."""

    iteration: int
    random: np.random.Generator
    generator: Any

    @classmethod
    def of(cls, torch: Any, seed: int, iteration: int) -> Draws:
        """Of an epoch."""
        generator = torch.Generator()
        generator.manual_seed((seed * 1_000_003 + iteration) % 2**63)
        return cls(iteration, np.random.Generator(np.random.PCG64([seed, iteration])), generator)


class DivergedError(Exception):
    """The loss is no longer a number."""


@dataclass(repr=False)
class NetworkModel(Model, HasLoss, StopsEarly, HasNetwork):
    """Weights are fitted by Adam over batches, with the rate `learning_rate`. Where rounds are judged, learning stops
    after `patience` of them without a better one, and the best is kept."""

    iterations: int = parameter(20, "passes over the data, at most")
    batch: int = parameter(1024, "cells, or users where the method takes whole users, that one step looks at")
    learning_rate: float = parameter(0.003, "of the gradient steps")
    regularisation: float = parameter(1e-5, "lambda of the objective")
    patience: int = parameter(5, "judged rounds without a better one after which learning stops; 0 never stops")
    seed: int = parameter(1, "of every random choice")
    weights_: Arrays = learned(dict)
    train_: InteractionMatrix | None = learned(lambda: None)

    def __post_init__(self) -> None:
        require_range("iterations", self.iterations, 1, 10_000, whole=True)
        require_range("batch", self.batch, 1, 1_000_000, whole=True)
        require_range("learning_rate", self.learning_rate, 1e-7, 10)
        require_range("regularisation", self.regularisation, 0, 1e6)
        require_range("patience", self.patience, 0, 10_000, whole=True)
        require_range("seed", self.seed, 0, 2**63 - 1, whole=True)

    def lacks_to_learn(self) -> str | None:
        """PyTorch, to learn with."""
        return lacks_pytorch()

    @property
    def stops_early(self) -> bool:
        """Unless it is told not to."""
        return self.patience > 0

    @abstractmethod
    def prepare(self, train: InteractionMatrix, features: Features | None) -> None:
        """Look at the data, before the first step."""

    @abstractmethod
    def initial_weights(self, random: np.random.Generator) -> Arrays:
        """What to start from: float32 arrays by name."""

    @cached_property
    def drawable(self) -> np.ndarray:
        """Items that may be drawn against what users have, int64: those that somebody has, for what nobody could have
        was not passed over."""
        return np.flatnonzero(self.trained_on.item_counts)

    def draw_items(self, random: np.random.Generator, *shape: int) -> np.ndarray:
        """Of these, evenly: int64 of this shape."""
        return self.drawable[random.integers(0, len(self.drawable), shape)]

    @abstractmethod
    def n_units(self) -> int:
        """Of how many cells, or users, an epoch is made."""

    @abstractmethod
    def step(self, optimiser: Optimiser, units: np.ndarray, draws: Draws) -> float:
        """One step by some cells, or users, and their mean loss before it. Raises DivergedError where that is no
        number."""

    @abstractmethod
    def update(self) -> None:
        """Bring what lists are made of up to date with the weights."""

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Epochs from the first weights, or from where a lost worker left them."""
        steps = self.iterations * max(1.0, train.n_cells / self.batch)
        torch = pytorch(self.family, self.cost(self.params(), train.shape, train.n_cells).operations / steps)
        if watch.judge is not None and not watch.patience:
            watch.patience = self.patience
        self.train_ = train
        self.prepare(train, features)
        if self.batch > self.n_units():
            watch.warn(f"batch is {self.batch:,}, and there are {self.n_units():,}: every step looks at all of them")
        random = np.random.Generator(np.random.PCG64([self.seed, 0]))
        self.weights_ = self.initial_weights(random)
        optimiser = Optimiser(torch, self.weights_, self.learning_rate)
        begun = self._resumed(optimiser, watch)
        for iteration in range(begun + 1, self.iterations + 1):
            before = {name: array.copy() for name, array in self.weights_.items()}
            draws = Draws.of(torch, self.seed, iteration)
            try:
                mean = self._epoch(optimiser, draws, iteration, watch)
            except DivergedError:
                self._take_back(before, iteration, watch)
                break
            self.update()
            going_on = watch.round(self, iteration, self.iterations, {"training": mean})
            watch.save(iteration, optimiser.state)
            if not going_on:
                break
        self.end()

    def end(self) -> None:
        """Let go of what only steps need."""
        self.__dict__.pop("drawable", None)

    def _resumed(self, optimiser: Optimiser, watch: Watch) -> int:
        kept = watch.resumed()
        if kept is not None:
            optimiser.load_state(kept.arrays)
        self.update()
        return 0 if kept is None else kept.iteration

    def _take_back(self, before: Arrays, iteration: int, watch: Watch) -> None:
        if iteration == 1:
            text = f"{self.family}: the loss is no longer a number in the first epoch; lower learning_rate"
            raise InputError(text, where="learning_rate")
        for name, array in before.items():
            self.weights_[name][...] = array
        self.update()
        watch.warn(
            f"the loss is no longer a number: learning stopped in epoch {iteration}, and what was best before it is "
            "kept; lower learning_rate"
        )

    def _epoch(self, optimiser: Optimiser, draws: Draws, iteration: int, watch: Watch) -> float:
        total, seen, n_units = 0.0, 0, self.n_units()
        for units in self.batches(draws.random):
            total += self.step(optimiser, units, draws) * len(units)
            seen += len(units)
            watch.report_progress((iteration - 1 + seen / n_units) / self.iterations, iteration)
        return total / seen

    def batches(self, random: np.random.Generator) -> Iterator[np.ndarray]:
        """Cells, or users, in an order that is drawn anew in every epoch: int32 (at most `batch`,) each."""
        order = random.permutation(np.arange(self.n_units(), dtype=np.int32))
        for lo in range(0, len(order), self.batch):
            yield order[lo : lo + self.batch]


@dataclass(repr=False)
class LossNetwork(NetworkModel):
    """Steps go down the gradient of a loss, which torch works out."""

    @abstractmethod
    def loss(self, weights: dict[str, Any], units: np.ndarray, draws: Draws) -> Any:
        """The mean loss of some cells, or users, with the penalty, as a torch number; weights: torch tensors."""

    def step(self, optimiser: Optimiser, units: np.ndarray, draws: Draws) -> float:
        """One step, and the loss before it."""
        loss = self.loss(optimiser.tensors, units, draws)
        value = float(loss.detach())
        if not np.isfinite(value):
            raise DivergedError
        optimiser.step(loss)
        return value


@dataclass(repr=False)
class UserNetwork(NetworkModel):
    """Each unit is a user with all they have: those with fewer items than `least` are passed over."""

    least: ClassVar[int] = 1

    def prepare(self, train: InteractionMatrix, features: Features | None) -> None:
        """Who has something."""
        self._users = np.flatnonzero(np.diff(train.indptr) >= self.least).astype(np.int32)

    def end(self) -> None:
        """Let go of who that is."""
        super().end()
        del self._users

    def n_units(self) -> int:
        """Users."""
        return len(self._users)
