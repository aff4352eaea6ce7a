"""Field-aware factorisation machine of values, by gradient steps."""

from __future__ import annotations

from copy import copy
from dataclasses import dataclass
from functools import partial
from typing import Any, ClassVar, Self

import numpy as np
import polars as pl

from gleaner.core.data.array_checks import Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.context_encoder import ContextEncoder
from gleaner.core.data.tables.row_features import Features, require_columns
from gleaner.core.errors import require_range
from gleaner.core.models.base.blocks import run_epoch
from gleaner.core.models.base.capabilities import Factors, FoldsIn, HasLoss, KnowsColumns, SideName, TakesFeatures
from gleaner.core.models.base.context import ContextFactors
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.factor_model import require_rank, ridge_fit
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, Model, learned
from gleaner.core.models.base.values import Biases, ValueModel, value_layout
from gleaner.core.models.base.watching import HeldOutCells, Watch
from gleaner.core.models.machines.fields import require_penalties
from gleaner.core.models.machines.fm_ranking import FmRanking


class SquaredMachine(FmRanking):
    """The machine of lists under the squared error of values: part of a model, and none itself."""

    def require_loss(self) -> None:
        """There is one."""

    @property
    def draws(self) -> int:
        """Nothing is drawn: what is not there says nothing."""
        return 0


@dataclass(repr=False)
class FfmValues(ValueModel, ContextFactors, FoldsIn, HasLoss, TakesFeatures, KnowsColumns):
    """r = base + sum_f w_f x_f + sum over pairs f < g of (v_f,g . v_g,f) x_f x_g: a feature has a vector of its own for
    every field that it meets, over pairs of a field of the user or context with one of the item, and of the user with
    the context (Juan, Zhuang, Chin, Lin 2016).

    Fitted by the squared error with Adagrad's step sizes (Duchi, Hazan, Singer 2011); the same model on any number of
    threads. Someone new is fitted by ridge regression to what they rated.
    """

    family: ClassVar[str] = "ffm_values"
    summary: ClassVar[str] = "values from ids, columns and context, a vector for every field that a feature meets"
    source: ClassVar[str] = "Juan, Zhuang, Chin, Lin 2016; Duchi, Hazan, Singer 2011"
    unfit: ClassVar[str] = "when there are few ratings for each feature: fm_values shares a vector among all fields"
    effort: ClassVar[str] = "per iteration about 8 rank cells, times the pairs of fields"

    rank: int = parameter(4, "length of the vector for each pair of fields")
    regularisation: float = parameter(0.1, "lambda of the objective")
    field_regularisation: dict[str, float] | None = parameter(
        None, "lambda of single fields, where it is not `regularisation`: user, item, or a column by its name"
    )
    learning_rate: float = parameter(0.05, "of the first epoch")
    iterations: int = parameter(30, "passes over the data")
    item_columns: list[str] | None = parameter(
        None, "columns of the item table to look at; none given: every one that says something"
    )
    user_columns: list[str] | None = parameter(
        None, "columns of the user table to look at; none given: every one that says something"
    )
    context_columns: list[str] | None = parameter(
        None,
        "columns of the interaction to look at, or time.hour, time.weekday, time.month; none given: all kept with it",
    )
    feature_weight: float = parameter(1.0, "length of all columns of a row together, against 1 of its own vector")
    init_scale: float = parameter(0.1, "spread of the first vectors, over the root of the rank")
    seed: int = parameter(1, "of every random choice")
    machine_: SquaredMachine = learned(SquaredMachine)

    def __post_init__(self) -> None:
        for name in ("item_columns", "user_columns", "context_columns"):
            require_columns(name, getattr(self, name))
        require_penalties(self.field_regularisation)
        require_range("iterations", self.iterations, 1, 1000, whole=True)
        self.machine_ = self._machine()

    def _machine(self) -> SquaredMachine:
        shared = {name: getattr(self, name) for name in SHARED}
        return SquaredMachine(**shared, field_aware=True, loss="squared")  # type: ignore[arg-type]

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """As one of lists with nothing drawn; some eight pairs of fields."""
        work = params["iterations"] * cells * 8.0 * (8 * params["rank"] + 25)
        return Cost(work, 24.0 * 8 * params["rank"] * sum(shape))

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Epochs over all cells."""
        require_rank(self.rank, train)
        self.learn_biases(train)
        machine = self.machine_ = self._machine()
        steps = machine.start(train, features)
        for iteration in range(1, self.iterations + 1):
            rate = np.float32(self.learning_rate)
            seed = np.uint64((self.seed * 1_000_003 + iteration) % 2**63)
            total = run_epoch(
                train,
                self.seed,
                iteration,
                self.iterations,
                steps.task(rate, seed),
                watch,
                stretches=steps.stretches,
                after_stretch=partial(steps.move_columns, rate),
            )
            machine.update_factors()
            if not watch.round(self, iteration, self.iterations, {"training": total / train.n_cells}):
                break
        machine.forget_untouched(train)
        machine.end()

    def columns(self, features: Features) -> dict[str, list[str]]:
        """Those of both tables, and of the interaction."""
        return self.machine_.columns(features)

    def column_names(self, side: SideName) -> list[str]:
        """Those of one table."""
        return self.machine_.column_names(side)

    @property
    def encoder(self) -> ContextEncoder:
        """How the columns of the interaction that were looked at are read."""
        return self.machine_.encoder

    @property
    def _base(self) -> float:
        return self.biases_.mean

    def predict(self, users: np.ndarray, items: np.ndarray) -> np.ndarray:
        """The whole sum, of the context nothing known."""
        return self.predict_in(users, items, None)

    def predict_in(self, users: np.ndarray, items: np.ndarray, context: pl.DataFrame | None) -> np.ndarray:
        """The whole sum, each pair in its row of the context: float32 (n,)."""
        return (self._base + self.machine_.log_odds(users, items, context)).astype(np.float32)

    def held_out_loss(self, held_out: HeldOutCells) -> float | None:
        """The mean squared error."""
        if held_out.values is None:
            return None
        miss = held_out.values - self.predict_in(held_out.users, held_out.items, held_out.context).astype(np.float64)
        return float(np.mean(miss**2))

    def factors(self) -> Factors:
        """Predicted values without the clip as one product, of the context nothing known: vector, a one and a weight of
        users; vector, weight and a one of items."""
        machine = self.machine_
        ones = np.ones(len(machine.items_), np.float32)
        return Factors(
            self._user_form(machine.users_, machine.context_rows(None, 1)),
            np.column_stack([machine.items_, ones]).astype(np.float32),
            2,
        )

    def _user_form(self, sums: np.ndarray, here: np.ndarray) -> np.ndarray:
        """Users in a context as their products with items need them: float32 (n, width + 1)."""
        crossed = (sums[:, :-1] * here[:, :-1]).sum(axis=1)
        weights = self._base + sums[:, -1] + here[:, -1] + crossed
        return np.column_stack([sums[:, :-1] + here[:, :-1], np.ones(len(sums)), weights]).astype(np.float32)

    def in_context(self, users: np.ndarray, context: pl.DataFrame) -> np.ndarray:
        """User factors, float32 (n, width), each in their row of the context."""
        machine = self.machine_
        nothing = machine.context_rows(None, 1)
        own = users[:, :-2] - nothing[:, :-1]
        weights = users[:, -1] - self._base - nothing[:, -1] - (own * nothing[:, :-1]).sum(axis=1)
        return self._user_form(np.column_stack([own, weights]), machine.context_rows(context, len(users)))

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """Predicted values, without the clip, of the context nothing known."""
        factors = self.factors()
        return factors.users[user_rows] @ factors.items.T

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The user factor of someone of whose columns nothing is known: float32 (width,)."""
        return self._folded(np.zeros((1, self.machine_.items_.shape[1]), np.float32), item_rows, values)

    def fold_in_row(self, row: pl.DataFrame, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """From what their columns say, by what they rated."""
        return self._folded(self.machine_.sums_of_rows("users", row), item_rows, values)

    def _folded(self, known: np.ndarray, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """known: what their columns come to, float32 (1, width)."""
        here = self.machine_.context_rows(None, 1)
        form = self._user_form(known, here)
        if not len(item_rows):
            return form[0]
        factors = self.factors()
        rows = factors.items[item_rows]
        penalty = np.full(rows.shape[1] - 1, max(self.regularisation * len(item_rows), 1e-3))
        varying = np.delete(rows, -2, axis=1)
        moved = ridge_fit(varying, np.asarray(values, np.float64) - rows @ form[0], penalty)
        form[0, :-2] += moved[:-1].astype(np.float32)
        form[0, -1] += np.float32(moved[-1])
        return form[0]

    def scores_of(self, representation: np.ndarray) -> np.ndarray:
        """Product with every item factor."""
        return self.factors().items @ representation

    def factors_of_rows(self, side: SideName, rows: pl.DataFrame) -> np.ndarray:
        """Sums of the vectors of their features, of the context nothing known."""
        sums = self.machine_.sums_of_rows(side, rows)
        if side == "users":
            return self._user_form(sums, self.machine_.context_rows(None, 1))
        return np.column_stack([sums, np.ones(len(sums))]).astype(np.float32)

    def with_rows(self, side: SideName, train: InteractionMatrix, rows: pl.DataFrame) -> Model:
        """With their sums behind the others, and no bias to fall back on."""
        extended = copy(self)
        machine = self.machine_.with_rows(side, train, rows)
        assert isinstance(machine, SquaredMachine)
        extended.machine_, extended.train_ = machine, train
        extended.biases_ = self.biases_.longer(side, rows.height)
        return extended

    def state(self) -> Arrays:
        """That of the machine, biases to fall back on, the scale."""
        return self.machine_.state() | self.biases_.arrays() | {"scale": np.array(self.scale_, dtype=np.float64)}

    def layout(self, train: InteractionMatrix) -> Layout:
        """All of one width."""
        return {**self.machine_.layout(train), **value_layout(train)}

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load everything. Raises DataError where the parts do not fit each other."""
        self.train_ = train
        self.biases_ = Biases.from_arrays(arrays)
        self.scale_ = (float(arrays["scale"][0]), float(arrays["scale"][1]))
        self.machine_.load_state(arrays, train)
        return self


SHARED = (
    "rank",
    "regularisation",
    "field_regularisation",
    "learning_rate",
    "iterations",
    "item_columns",
    "user_columns",
    "context_columns",
    "feature_weight",
    "init_scale",
    "seed",
)
"""Parameters that the machine takes as they are."""
