"""Factorisation machine of values: ids, columns of both tables and of the interaction, and every two of them."""

from __future__ import annotations

from copy import copy
from dataclasses import dataclass
from typing import Any, ClassVar, Self

import numpy as np
import polars as pl
from scipy import sparse

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.column_encoding import ColumnEncoding
from gleaner.core.data.tables.context_encoder import ContextEncoder
from gleaner.core.data.tables.row_features import (
    Column,
    Features,
    chosen,
    encoded_again,
    encodings_from_json,
    encodings_to_json,
    require_columns,
)
from gleaner.core.errors import DataError, require_range
from gleaner.core.models.base.capabilities import (
    Explains,
    Factors,
    FoldsIn,
    FoldsInItems,
    HasLoss,
    KnowsColumns,
    SideName,
    TakesFeatures,
    Terms,
)
from gleaner.core.models.base.context import ContextFactors
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.factor_model import require_rank
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, Model, learned
from gleaner.core.models.base.values import Biases, ValueModel, value_layout
from gleaner.core.models.base.watching import HeldOutCells, Watch
from gleaner.core.models.machines.collapsed import Draw
from gleaner.core.models.machines.fields import fields_of
from gleaner.core.models.machines.sampling import Chain

TABLES = ("users", "items", "user_columns", "item_columns", "context")
"""Of every draw, by name."""

AT_ONCE = 65_536
"""Pairs that are predicted at a time, so that memory stays small."""


@dataclass(repr=False)
class FmValues(ValueModel, FoldsIn, FoldsInItems, ContextFactors, HasLoss, Explains, TakesFeatures, KnowsColumns):
    """r = base + sum_f w_f x_f + sum over pairs f < g of (v_f . v_g) x_f x_g, x the features of a rating: user, item,
    the columns of both, and those of the interaction (Rendle 2010).

    Fitted by Gibbs sampling, which draws the regularisation of every field as well (Freudenthaler, Schmidt-Thieme,
    Rendle 2011): predictions are means over `samples` draws. Time is linear in the features that are not zero.
    """

    family: ClassVar[str] = "fm_values"
    summary: ClassVar[str] = "values from ids, columns and context, and every two of them together"
    source: ClassVar[str] = "Rendle 2010, 2012; Freudenthaler, Schmidt-Thieme, Rendle 2011"
    unfit: ClassVar[str] = "when a list must be as cheap as that of one factor model: it is a mean of several"
    effort: ClassVar[str] = "per iteration about rank^2 for each feature that is not zero, and rank^3 / 3 a feature"

    rank: int = parameter(8, "length of the vectors")
    iterations: int = parameter(160, "draws of everything")
    warm_up: float = parameter(0.25, "share of the draws, at the start, that no prediction is made of")
    samples: int = parameter(30, "draws that predictions are means of, at most")
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
    init_scale: float = parameter(0.1, "spread of the first vectors")
    seed: int = parameter(1, "of every random choice")
    draws_: list[Draw] = learned(list)
    encoder_: ContextEncoder = learned(ContextEncoder)
    columns_: dict[SideName, list[ColumnEncoding]] = learned(lambda: {"users": [], "items": []})
    factors_: Factors | None = learned(lambda: None)

    def __post_init__(self) -> None:
        require_range("rank", self.rank, 1, 256, whole=True)
        require_range("iterations", self.iterations, 1, 10_000, whole=True)
        require_range("warm_up", self.warm_up, 0, 0.99)
        require_range("samples", self.samples, 1, 200, whole=True)
        require_columns("item_columns", self.item_columns)
        require_columns("user_columns", self.user_columns)
        require_columns("context_columns", self.context_columns)
        require_range("init_scale", self.init_scale, 1e-6, 10)
        require_range("seed", self.seed, 0, 2**63 - 1, whole=True)

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """Some eight features a cell, each with a system of its own to add to."""
        width = params["rank"] + 1
        work = params["iterations"] * (cells * 8.0 * (width**2 + 6 * width) + sum(shape) * width**3 / 3)
        return Cost(work, cells * (8.0 * 12 + 4.0 * width) + 4.0 * params["samples"] * width * sum(shape))

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Draw, and keep some of the draws."""
        require_rank(self.rank, train)
        self.learn_biases(train)
        given = features or Features()
        users, items = self._columns_of(given)
        self.columns_ = {"users": [each.encoding for each in users], "items": [each.encoding for each in items]}
        context = pl.DataFrame() if train.context is None else train.context
        self.encoder_ = ContextEncoder.fit(context, self.context_of(context.columns, self.context_columns))
        codes = self.encoder_.codes(train.context, train.n_cells)
        fields = fields_of(train, users, items, codes, self.encoder_.names, self.encoder_.n_features)
        chain = Chain(fields, train.values, self.rank, self.init_scale, self.seed)
        sides = _matrices(users), _matrices(items)
        first = int(self.warm_up * self.iterations)
        n_kept = min(self.samples, self.iterations - first)
        wanted = set(np.linspace(first, self.iterations - 1, n_kept).round().astype(int).tolist())
        kept: list[Draw] = []
        for iteration in range(self.iterations):
            chain.draw()
            if iteration in wanted or not kept:
                self.draws_, self.factors_ = [*kept, Draw.of(chain, *sides)], None
            if iteration in wanted:
                kept = self.draws_
            losses = {"training": chain.loss()} if watch.follows else {}
            if not watch.round(self, iteration + 1, self.iterations, losses):
                break

    def _columns_of(self, features: Features) -> tuple[list[Column], list[Column]]:
        return (
            chosen(features.users, self.user_columns, "user_columns"),
            chosen(features.items, self.item_columns, "item_columns"),
        )

    def columns(self, features: Features) -> dict[str, list[str]]:
        """Those of both tables, and of the interaction."""
        users, items = self._columns_of(features)
        return {
            "user_columns": [each.name for each in users],
            "item_columns": [each.name for each in items],
            "context_columns": self.context_of(features.context, self.context_columns),
        }

    def column_names(self, side: SideName) -> list[str]:
        """Those of one table."""
        return [each.column for each in self.columns_[side]]

    def factors_of_rows(self, side: SideName, rows: pl.DataFrame) -> np.ndarray:
        """Sums of the vectors of their features in every draw, of the context nothing known."""
        features = _matrices(encoded_again(self.columns_[side], rows))
        place = 0 if side == "users" else 1
        if place == 0:
            forms = [self._user_form(draw, draw.of_rows(features, place)) for draw in self.draws_]
        else:
            forms = [self._item_form(draw.of_rows(features, place)) for draw in self.draws_]
        return _side_by_side(forms, place)

    def fold_in_row(self, row: pl.DataFrame, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Of someone with these columns and ratings, the mean of their distribution in every draw."""
        features, forms = _matrices(encoded_again(self.columns_["users"], row)), []
        for draw in self.draws_:
            others = draw.items[item_rows]
            context = np.broadcast_to(self._nothing_known(draw), others.shape)
            known = draw.known_of_user(features)
            own = draw.fitted_side(others, context, np.asarray(values, np.float64), 0, known)
            forms.append(self._user_form(draw, own[None]))
        return _side_by_side(forms, 0)[0]

    def with_rows(self, side: SideName, train: InteractionMatrix, rows: pl.DataFrame) -> Model:
        """With their sums behind the others, in every draw, and no bias to fall back on."""
        features, extended = _matrices(encoded_again(self.columns_[side], rows)), copy(self)
        extended.draws_ = [draw.with_rows(features, 0 if side == "users" else 1) for draw in self.draws_]
        extended.biases_ = self.biases_.longer(side, rows.height)
        extended.train_, extended.factors_ = train, None
        return extended

    @property
    def encoder(self) -> ContextEncoder:
        """How the columns of the interaction that were looked at are read."""
        return self.encoder_

    def predict(self, users: np.ndarray, items: np.ndarray) -> np.ndarray:
        """The mean over the draws, of the context nothing known."""
        return self.predict_in(users, items, None)

    def predict_in(self, users: np.ndarray, items: np.ndarray, context: pl.DataFrame | None) -> np.ndarray:
        """The mean over the draws, each pair in its row of the context: float32 (n,)."""
        out = np.empty(len(users), np.float32)
        for lo in range(0, len(users), AT_ONCE):
            some = slice(lo, lo + AT_ONCE)
            n = len(users[some])
            features = self._context_features(None if context is None else context[some], n)
            total = np.zeros(n)
            for draw in self.draws_:
                total += draw.pairs(draw.users[users[some]], draw.items[items[some]], draw.of_context(features))
            out[some] = total / len(self.draws_)
        return out

    def _context_features(self, context: pl.DataFrame | None, n: int) -> np.ndarray:
        """Rows of the context's table: int (n, n_columns), -1 for none."""
        codes = self.encoder_.codes(context, n).T
        starts = np.concatenate([[0], np.cumsum(self.encoder_.n_features)])[:-1].astype(np.int64)
        return np.where(codes >= 0, codes + starts, -1)

    def _nothing_known(self, draw: Draw) -> np.ndarray:
        """The row of a context of which nothing is known: float32 (rank + 1,)."""
        return draw.of_context(self._context_features(None, 1))[0]

    def factors(self) -> Factors:
        """Scores as one product, of the context nothing known: the vectors of all draws side by side."""
        if self.factors_ is None:
            users = [self._user_form(draw, draw.users) for draw in self.draws_]
            items = [self._item_form(draw.items) for draw in self.draws_]
            self.factors_ = Factors(_side_by_side(users, 0), _side_by_side(items, 1), 2)
        return self.factors_

    def _user_form(self, draw: Draw, rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Vectors and weights of users as their products with items need them: those of the context go with them."""
        # in 64 bits, so that it comes out the same wherever in memory the draws lie
        context, share = self._nothing_known(draw).astype(np.float64), 1.0 / np.sqrt(len(self.draws_))
        weights = draw.base + rows[:, 0].astype(np.float64) + context[0] + rows[:, 1:].astype(np.float64) @ context[1:]
        return share * (rows[:, 1:] + context[1:]), weights / len(self.draws_)

    def _item_form(self, rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        share = 1.0 / np.sqrt(len(self.draws_))
        return share * rows[:, 1:].astype(np.float64), rows[:, 0].astype(np.float64) / len(self.draws_)

    def in_context(self, users: np.ndarray, context: pl.DataFrame) -> np.ndarray:
        """User factors, float32 (n, width), each in their row of the context."""
        features, n_draws = self._context_features(context, len(users)), len(self.draws_)
        share, moved = 1.0 / np.sqrt(n_draws), users.astype(np.float64)
        for place, draw in enumerate(self.draws_):
            at = slice(place * self.rank, (place + 1) * self.rank)
            nothing, here = self._nothing_known(draw), draw.of_context(features)
            step = here[:, 1:] - nothing[1:]
            own = users[:, at] / share - nothing[1:]
            moved[:, at] += share * step
            moved[:, -2] += (here[:, 0] - nothing[0] + np.einsum("ij,ij->i", own, step)) / n_draws
        return moved.astype(np.float32)

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """Predicted values, without the clip, of the context nothing known."""
        factors = self.factors()
        return factors.users[user_rows] @ factors.items.T

    def held_out_loss(self, held_out: HeldOutCells) -> float | None:
        """The mean squared error."""
        if held_out.values is None:
            return None
        miss = held_out.values - self.predict_in(held_out.users, held_out.items, held_out.context).astype(np.float64)
        return float(np.mean(miss**2))

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The user factor of someone of whose columns nothing is known: float32 (width,)."""
        forms = [self._user_form(draw, own) for draw, own in self._new_side(item_rows, values, 0)]
        return _side_by_side(forms, 0)[0]

    def fold_in_item(self, user_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The item factor of something of whose columns nothing is known: float32 (width,)."""
        forms = [self._item_form(own) for _, own in self._new_side(user_rows, values, 1)]
        return _side_by_side(forms, 1)[0]

    def _new_side(self, rows: np.ndarray, values: np.ndarray, side: int) -> list[tuple[Draw, np.ndarray]]:
        """Weight and vector in each draw: float32 (1, rank + 1)."""
        fitted = []
        for draw in self.draws_:
            others = (draw.items if side == 0 else draw.users)[rows]
            context = np.broadcast_to(self._nothing_known(draw), others.shape)
            fitted.append((draw, draw.fitted_side(others, context, np.asarray(values, np.float64), side)[None]))
        return fitted

    def scores_of(self, representation: np.ndarray) -> np.ndarray:
        """Product with every item factor."""
        return self.factors().items @ representation

    def scores_of_item(self, representation: np.ndarray) -> np.ndarray:
        """Product with every user factor."""
        return self.factors().users @ representation

    def terms(self, user_row: int, item_row: int) -> Terms:
        """What user, item and their product add to the mean, of the context nothing known."""
        return self.terms_in(user_row, item_row, None)

    def terms_in(self, user_row: int, item_row: int, context: pl.DataFrame | None) -> Terms:
        """The same in a context of one row."""
        parts, features = [], self._context_features(context, 1)
        for draw in self.draws_:
            user, item, here = draw.users[user_row], draw.items[item_row], draw.of_context(features)[0]
            x, y, z = user[1:], item[1:], here[1:]
            parts.append([user[0], item[0], x @ y, here[0] + (x + y) @ z])
        adds = np.mean(np.array(parts, dtype=np.float64), axis=0)
        names = ["user", "item", "user with item", "context, nothing known" if context is None else "context"]
        start = float(np.mean([draw.base for draw in self.draws_]))
        kept = np.arange(4 if self.encoder_.columns else 3)
        return Terms("input", kept, {"adds": adds[kept]}, "weights and products, means over the draws", start, names)

    def state(self) -> Arrays:
        """The draws one after the other, the context's encoder, biases to fall back on, the scale."""
        return {
            **{name: np.stack([getattr(draw, name) for draw in self.draws_]) for name in TABLES},
            "encodings": np.frombuffer(encodings_to_json(self.columns_), np.uint8),
            "base": np.array([draw.base for draw in self.draws_]),
            "priors": np.stack([draw.priors for draw in self.draws_]),
            "precision": np.array([draw.precision for draw in self.draws_]),
            "encoder": np.frombuffer(self.encoder_.to_json(), np.uint8),
            **self.biases_.arrays(),
            "scale": np.array(self.scale_, dtype=np.float64),
        }

    def layout(self, train: InteractionMatrix) -> Layout:
        """As many draws as there are, each with a row for every user, item and feature of the context."""
        width = self.rank + 1
        return {
            "users": ArraySpec("float32", ("draws", len(train.users), width)),
            "items": ArraySpec("float32", ("draws", len(train.items), width)),
            "user_columns": ArraySpec("float32", ("draws", "features of users", width)),
            "item_columns": ArraySpec("float32", ("draws", "features of items", width)),
            "encodings": ArraySpec("uint8", ("letters",)),
            "context": ArraySpec("float32", ("draws", "features of the context", width)),
            "base": ArraySpec("float64", ("draws",)),
            "priors": ArraySpec("float64", ("draws", 2, 2, width)),
            "precision": ArraySpec("float64", ("draws",)),
            "encoder": ArraySpec("uint8", ("letters of the context",)),
            **value_layout(train),
        }

    def brought_up(self, arrays: Arrays) -> Arrays:
        """Of models from before their columns were kept, nothing is known but what trained rows come to."""
        if {"encodings", "user_columns", "item_columns"} & arrays.keys():
            return arrays
        none = np.zeros((len(arrays.get("base", ())), 0, self.rank + 1), np.float32)
        letters = np.frombuffer(encodings_to_json({"users": [], "items": []}), np.uint8)
        return arrays | {"user_columns": none, "item_columns": none, "encodings": letters}

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load everything. Raises DataError where the encoder and the features do not fit each other."""
        self.train_ = train
        self.biases_ = Biases.from_arrays(arrays)
        self.scale_ = (float(arrays["scale"][0]), float(arrays["scale"][1]))
        self.encoder_ = ContextEncoder.from_json(arrays["encoder"].tobytes())
        kept = encodings_from_json(arrays["encodings"].tobytes())
        self.columns_ = {"users": kept.get("users", []), "items": kept.get("items", [])}
        for side, name in (("users", "user_columns"), ("items", "item_columns")):
            if arrays[name].shape[1] != sum(len(each.names) for each in kept.get(side, [])):
                text = f"{self.family}: array {name!r} must hold every feature of its columns"
                raise DataError(text, where="encodings")
        n_draws, n_features = arrays["context"].shape[:2]
        if not n_draws or n_features != sum(self.encoder_.n_features):
            raise DataError(f"{self.family}: array 'context' must hold every feature of the encoder", where="context")
        if (arrays["priors"][:, :, 1] <= 0).any() or (arrays["precision"] <= 0).any():
            raise DataError(f"{self.family}: array 'priors' must hold precisions above 0", where="priors")
        self.draws_ = [
            Draw(
                base=float(arrays["base"][place]),
                **{name: arrays[name][place] for name in TABLES},
                priors=arrays["priors"][place],
                precision=float(arrays["precision"][place]),
            )
            for place in range(n_draws)
        ]
        self.factors_ = None
        return self


def _side_by_side(forms: list[tuple[np.ndarray, np.ndarray]], place: int) -> np.ndarray:
    """Vectors of all draws, then the sum of their weights and a column of ones, the weights at `place` of the two."""
    weights = np.sum([part for _, part in forms], axis=0)
    ones = np.ones(len(weights))
    return np.column_stack(
        [*(vectors for vectors, _ in forms), *((weights, ones) if place == 0 else (ones, weights))]
    ).astype(np.float32)


def _matrices(columns: list[Column]) -> list[sparse.csr_array]:
    return [each.matrix for each in columns]
