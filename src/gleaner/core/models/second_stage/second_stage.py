"""A second stage: several models bring candidates, and one that is learned puts them in order."""

from __future__ import annotations

import json
from dataclasses import dataclass, replace
from typing import Any, ClassVar, Literal, Self

import numpy as np
import polars as pl

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.context_encoder import ContextEncoder
from gleaner.core.data.tables.row_features import Features, chosen, require_columns
from gleaner.core.data.ties import tie_order
from gleaner.core.errors import DataError, InputError, ParameterError, require_range
from gleaner.core.models.base.capabilities import (
    Explains,
    FoldsIn,
    HasLogOdds,
    TakesFeatures,
    Terms,
    WeighsInputs,
    folding,
    order_matters,
)
from gleaner.core.models.base.context import TakesContext
from gleaner.core.models.base.cost import Cost
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.base.protocol import Arrays, Model, learned
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.composition.members import (
    as_chosen,
    brought_up_members,
    build_member,
    fit_members,
    joined_encoder,
    layouts_of,
    scores_of_history,
    scores_of_member,
    state_of_member,
    states_of,
)
from gleaner.core.models.neural.machinery.layers import require_layers
from gleaner.core.models.neural.machinery.pytorch import lacks_pytorch
from gleaner.core.models.second_stage.context_lifts import ContextLifts
from gleaner.core.models.second_stage.folds import BLOCK, Folding, Lessons, lessons
from gleaner.core.models.second_stage.inputs import CandidatePairs, Facts, Known, candidates_of, inputs_of
from gleaner.core.models.second_stage.orders import FORMULAS, Order, layout_of, learn_order, load_order

MAX_MEMBERS = 10
DEFAULT_MEMBERS = ("item_knn", "als", "item_linear", "popular")
SHARES = {True: 0.15, False: 0.3}
"""Held out of users by default, where it is their latest and where it is drawn: best on validation of simulated
worlds."""
LEARNED = 0.8
"""Of the progress: lists to learn from are there."""


@dataclass(repr=False)
class SecondStage(Model, FoldsIn, Explains, TakesFeatures, TakesContext, WeighsInputs, HasLogOdds):
    """Members bring their best items; what they say of a pair, what user and item are and how they meet are the inputs
    of a learned order.

    The order is learned from users of whom a share of the cells is held out while the members are fitted: no member
    ever saw the pair that it is judged by (stacking: Wolpert 1992). Then the members are fitted on all. `trees`:
    boosted, by LambdaRank (Burges 2010); `linear`: a weighted sum, by a loss over whole lists (Cao, Qin, Liu, Tsai, Li
    2007); `network`: layers over inputs and the products of every two, by the same loss (Naumov et al. 2019)."""

    family: ClassVar[str] = "second_stage"
    feedback: ClassVar = "implicit"
    summary: ClassVar[str] = "candidates of several models, in an order that is learned"
    source: ClassVar[str] = "Wolpert 1992; Burges 2010; Cao, Qin, Liu, Tsai, Li 2007"
    unfit: ClassVar[str] = "when one of its members alone is as good: it costs every member several times"
    effort: ClassVar[str] = "`folds` and one fits of every member, their lists for all users, and the trees"

    members: list[Any] = parameter([*DEFAULT_MEMBERS], "families that bring candidates, or `{family: parameters}`")
    learner: Literal["trees", "linear", "network"] = parameter(
        "trees", "what puts them in order: `trees`, `linear` or `network`"
    )
    candidates: int = parameter(200, "best items of each member that come into question")
    folds: int = parameter(2, "parts of the users, each of them left out in turn")
    share: float | None = parameter(
        None, "of what the users of a part have, held out to learn from; none given: 0.15 of the latest, 0.3 of any"
    )
    hold_out: Literal["auto", "latest", "random"] = parameter(
        "auto",
        "what of a user is held out: the `latest`, any (`random`), or `auto`: the latest, unless a contest divides at "
        "random",
    )
    negatives: int = parameter(100, "candidates that a list keeps to learn from which the user did not take")
    rounds: int = parameter(100, "trees")
    leaves: int = parameter(31, "of a tree, at most")
    least: int = parameter(50, "pairs in a leaf, at least")
    learning_rate: float = parameter(0.1, "of a tree; the network takes a twentieth of it for each step")
    regularisation: float = parameter(1e-3, "of the linear order and of the network")
    layers: list[int] = parameter([64, 32], "widths of the layers of the network")
    epochs: int = parameter(20, "passes of the network over the lists")
    item_columns: list[str] | None = parameter(
        None, "columns of the item table that the order looks at; none given: every one that says something"
    )
    user_columns: list[str] | None = parameter(
        None, "columns of the user table that the order looks at; none given: every one that says something"
    )
    context_columns: list[str] | None = parameter(
        None, "columns of the interaction that the order looks at, or time.hour and so on; none given: all kept with it"
    )
    time_since: bool = parameter(
        False, "also look at how long ago items were first and last taken, and at histories that fade"
    )
    seed: int = parameter(1, "of the parts, of what is held out and of what is drawn")
    models_: list[Model] = learned(list)
    train_: InteractionMatrix | None = learned(lambda: None)
    order_: Order | None = learned(lambda: None)
    facts_: Facts | None = learned(lambda: None)
    gains_: np.ndarray = learned(lambda: np.empty(0))
    ties_: np.ndarray = learned(lambda: np.empty(0, np.int32))

    def __post_init__(self) -> None:
        if not isinstance(self.members, list) or not 1 <= len(self.members) <= MAX_MEMBERS:
            raise ParameterError(f"members must be a list of 1 to {MAX_MEMBERS} models", where="members")
        if self.learner not in tuple(FORMULAS):
            raise ParameterError(f"learner must be one of {', '.join(FORMULAS)}, not {self.learner!r}", where="learner")
        require_layers("layers", self.layers)
        require_range("epochs", self.epochs, 1, 10_000, whole=True)
        if self.hold_out not in ("auto", "latest", "random"):
            raise ParameterError(f"hold_out must be auto, latest or random, not {self.hold_out!r}", where="hold_out")
        require_range("candidates", self.candidates, 1, 5000, whole=True)
        require_range("folds", self.folds, 2, 20, whole=True)
        if self.share is not None:
            require_range("share", self.share, 0.01, 0.9)
        require_range("negatives", self.negatives, 1, 5000, whole=True)
        require_range("rounds", self.rounds, 1, 10_000, whole=True)
        require_range("leaves", self.leaves, 2, 1024, whole=True)
        require_range("least", self.least, 1, 1_000_000, whole=True)
        require_range("learning_rate", self.learning_rate, 1e-4, 1)
        require_range("regularisation", self.regularisation, 0)
        require_range("seed", self.seed, 0, 2**63 - 1, whole=True)
        for name in ("item_columns", "user_columns", "context_columns"):
            require_columns(name, getattr(self, name))
        if not isinstance(self.time_since, bool):
            raise ParameterError(f"time_since must be true or false, not {self.time_since!r}", where="time_since")
        self.models_ = [build_member(member) for member in self.members]

    @property
    def wants_features(self) -> bool:
        """It always looks at what there is."""
        return True

    def columns(self, features: Features) -> dict[str, list[str]]:
        """Those that the order looks at; its members name their own."""
        looked_at = self._looked_at(features)
        return {
            "item_columns": [each.name for each in looked_at.items],
            "user_columns": [each.name for each in looked_at.users],
            "context_columns": list(looked_at.context),
        }

    def _looked_at(self, features: Features) -> Features:
        items = chosen(features.items, self.item_columns, "item_columns")
        users = chosen(features.users, self.user_columns, "user_columns")
        context = self.context_of(features.context, self.context_columns)
        return replace(features, items=tuple(items), users=tuple(users), context=tuple(context))

    @property
    def encoder(self) -> ContextEncoder:
        """The columns of the interaction that the order, or a member, looks at."""
        own = () if self.facts_ is None else self.facts_.context.encoder.columns
        of_members = joined_encoder(self.models_).columns
        return ContextEncoder(tuple({each.name: each for each in (*of_members, *own)}.values()))

    @classmethod
    def cost(cls, params: dict[str, Any], shape: tuple[int, int], cells: int) -> Cost:
        """Every member for each fold and once more, their tables of scores, and the trees."""
        costs = [member.cost(member.params(), shape, cells) for member in map(build_member, params["members"])]
        fits = (params["folds"] + 1) * sum(each.operations for each in costs)
        lists = 4.0 * len(costs) * shape[0] * shape[1]
        pairs = shape[0] * (params["negatives"] + 10.0)
        inputs = 2.0 * len(costs) + 20
        of_pairs = inputs**2 * (params["layers"] or [1])[0] / 4
        steps = {"trees": params["rounds"], "linear": 50, "network": params["epochs"] * of_pairs / inputs}
        return Cost(
            fits + lists + pairs * inputs * steps[params["learner"]],
            sum(each.bytes for each in costs) + 8.0 * pairs * inputs,
        )

    def require_fit(self, train: InteractionMatrix) -> None:
        """Every member must take the data."""
        super().require_fit(train)
        for model in self.models_:
            model.require_fit(train)

    def learn(self, train: InteractionMatrix, features: Features | None, watch: Watch) -> None:
        """Lists of members that never saw what they are judged by, the order, and the members on all."""
        given = features or Features()
        self.train_, self.ties_ = train, tie_order(train.items, self.seed)
        latest = self.hold_out == "latest" or (self.hold_out == "auto" and watch.judged_later)
        latest = latest and train.days is not None
        share = self.share or SHARES[latest]
        how = Folding(self.folds, share, latest, self.candidates, self.negatives, self.seed)

        first_fold: list[Model] = []

        def fit(seen: InteractionMatrix, fold: int) -> list[Model]:
            # what members choose in the first fold holds for the others: choosing costs more than a fit
            models = [as_chosen(each) for each in first_fold] or [build_member(each) for each in self.members]
            models = fit_members(models, seen, given, watch, width * fold, width)
            first_fold[:] = first_fold or models
            return models

        width = LEARNED / (how.folds + 1)
        looked_at = self._looked_at(given)

        def facts_of(cells: InteractionMatrix) -> Facts:
            return Facts.of(cells, looked_at, time_since=self.time_since)

        columns = [self.item_columns, self.user_columns, self.context_columns, self.time_since]
        key = json.dumps([self.members, columns, *vars(how).values()], sort_keys=True)

        def make_lessons() -> Lessons:
            return lessons(train, facts_of, how, fit, self.ties_)

        learned_from = make_lessons() if watch.lent is None else watch.lent.last(key, train, make_lessons)
        self.models_ = fit_members(self.models_, train, given, watch, width * how.folds, width)
        self.facts_ = facts_of(train)
        if not len(learned_from.groups):
            text = f"{self.family}: no member lists anything that was held out; take others, or more candidates"
            raise DataError(text, where="members")
        report_progress = watch.part(LEARNED, 1.0)
        self.order_, self.gains_ = learn_order(self.learner, learned_from, self.params(), report_progress)
        watch.report_progress(1.0)

    def lacks_to_learn(self) -> str | None:
        """PyTorch, where the order is a network's."""
        return lacks_pytorch() if self.learner == "network" else None

    def members_of(self) -> list[Model]:
        """Those that bring candidates."""
        return self.models_

    @property
    def input_names(self) -> list[str]:
        """What each input is called."""
        facts = self._facts()
        own = [f"{model.family}: {what}" for model in self.models_ for what in ("score", "place")]
        return [*own, *facts.names]

    def importance(self) -> dict[str, float]:
        """The share of each input in what the order gained, most first."""
        total = self.gains_.sum()
        shares = self.gains_ / total if total > 0 else self.gains_
        order = np.argsort(-shares, kind="stable")
        names = self.input_names
        return {names[at]: float(shares[at]) for at in order}

    def _facts(self) -> Facts:
        if self.facts_ is None:
            raise InputError(f"{self.family} is not fitted")
        return self.facts_

    def scores(self, user_rows: np.ndarray) -> np.ndarray:
        """The learned order of the candidates; all other items below them, as the first member has them; what a user
        has below these."""
        return self._scores(user_rows, None)

    def scores_in(self, user_rows: np.ndarray, context: pl.DataFrame) -> np.ndarray:
        """The same, each user in their row of the context."""
        return self._scores(user_rows, context)

    def _scores(self, user_rows: np.ndarray, context: pl.DataFrame | None) -> np.ndarray:
        train, users = self.trained_on, np.asarray(user_rows, np.int32)
        out = np.empty((len(users), len(train.items)), np.float32)
        for lo in range(0, len(users), BLOCK):
            block, here = users[lo : lo + BLOCK], None if context is None else context[lo : lo + BLOCK]
            tables = [scores_of_member(model, block, here) for model in self.models_]
            candidates = self._candidates(tables, (train.indptr, train.indices), block, here)
            self._fill(tables, (train.indptr, train.indices), candidates, self._facts(), out[lo : lo + BLOCK])
        return out

    def _candidates(
        self, tables: list[np.ndarray], known: Known, users: np.ndarray, context: pl.DataFrame | None
    ) -> CandidatePairs:
        return candidates_of(tables, known, users, self.candidates, self.ties_, context)

    def _fill(
        self, tables: list[np.ndarray], known: Known, candidates: CandidatePairs, facts: Facts, out: np.ndarray
    ) -> None:
        users = candidates.users
        values = self._order().sums(inputs_of(candidates, facts))
        place = candidates.rows
        low = np.zeros(len(users))
        np.minimum.at(low, place, values)
        first = tables[0].astype(np.float64)
        span = np.ptp(first, axis=1, keepdims=True)
        out[:] = low[:, None] - 2 + (first - first.min(axis=1, keepdims=True)) / np.where(span > 0, span, 1)
        indptr, indices = known
        for row, user in enumerate(users):
            out[row, indices[indptr[user] : indptr[user + 1]]] = low[row] - 3
        out[place, candidates.items] = values

    def _order(self) -> Order:
        if self.order_ is None:
            raise InputError(f"{self.family} is not fitted")
        return self.order_

    @property
    def can_fold_in(self) -> bool:
        """Whether a member says anything of someone new."""
        return any(folding(model) is not None or not model.personal for model in self.models_)

    @property
    def reads_order(self) -> bool:  # type: ignore[override]  # a class fact of most, here of the members
        """Where a member does."""
        return any(order_matters(model) for model in self.models_)

    def fold_in(self, item_rows: np.ndarray, values: np.ndarray) -> np.ndarray:
        """The history itself: float64 (2, n), rows then values."""
        return np.vstack([item_rows, values]).astype(np.float64)

    def scores_of(self, representation: np.ndarray) -> np.ndarray:
        """Members that can, fold in; those that are the same for all need not; others bring nothing."""
        return self._scores_of(representation, None)

    def scores_of_in(self, representation: np.ndarray, context: pl.DataFrame) -> np.ndarray:
        """The same, in a context of one row."""
        return self._scores_of(representation, context)

    def _scores_of(self, representation: np.ndarray, context: pl.DataFrame | None) -> np.ndarray:
        items, values = representation[0].astype(np.int32), representation[1].astype(np.float32)
        tables = [scores_of_history(model, items, values, len(self.ties_), context)[None] for model in self.models_]
        known = np.array([0, len(items)], np.int64), np.sort(items)
        out = np.empty((1, len(self.ties_)), np.float32)
        candidates = self._candidates(tables, known, np.zeros(1, np.int32), context)
        self._fill(tables, known, candidates, self._facts().of_history(np.sort(items)), out)
        return out[0]

    def log_odds(self, users: np.ndarray, items: np.ndarray, context: pl.DataFrame | None = None) -> np.ndarray:
        """The scores of the learned order, user by user, each in their contexts."""
        asked = _asked(users, context if self.encoder.names else None)
        _, firsts, places = np.unique(asked, return_index=True, return_inverse=True)
        order = np.argsort(places, kind="stable")
        bounds = np.searchsorted(places[order], np.arange(len(firsts) + 1))
        odds = np.empty(len(users))
        for lo in range(0, len(firsts), BLOCK):
            some = firsts[lo : lo + BLOCK]
            scores = self._scores(users[some], None if context is None else context[some])
            mine = order[bounds[lo] : bounds[min(lo + BLOCK, len(firsts))]]
            odds[mine] = scores[places[mine] - lo, items[mine]]
        return odds

    def terms(self, user_row: int, item_row: int) -> Terms | None:
        """What each input adds to the score of a candidate; None for an item that no member brings."""
        return self.terms_in(user_row, item_row, None)

    def terms_in(self, user_row: int, item_row: int, context: pl.DataFrame | None) -> Terms | None:
        """The same in a context of one row."""
        train, users = self.trained_on, np.array([user_row], np.int32)
        tables = [scores_of_member(model, users, context) for model in self.models_]
        candidates = self._candidates(tables, (train.indptr, train.indices), users, context)
        at = np.flatnonzero(candidates.items == item_row)
        if not len(at):
            return None
        row = inputs_of(candidates, self._facts())[at[0]]
        start, adds = self._order().terms(row)
        kept = np.flatnonzero(adds)
        columns = {"value": row[kept].astype(np.float64), "adds": adds[kept]}
        return Terms("input", kept, columns, FORMULAS[self.learner], start, self.input_names)

    def state(self) -> Arrays:
        """States of the members with their numbers before, the facts, and the order."""
        assert self.order_ is not None
        return states_of(self.models_) | self._facts().state() | self.order_.state() | {"gains": self.gains_}

    def layout(self, train: InteractionMatrix) -> Layout:
        """Those of the members, of the facts, and of the order."""
        n_inputs = "n_inputs"
        return {
            **layouts_of(self.models_, train),
            **Facts.layout(len(train.users), len(train.items)),
            **layout_of(self.learner, n_inputs, self.layers),
            "gains": ArraySpec("float64", ("inputs",)),
        }

    def brought_up(self, arrays: Arrays) -> Arrays:
        """Those of the members; and of a model from before the order looked at the context, that it looks at none."""
        arrays = brought_up_members(self.models_, arrays)
        return arrays if any(name.startswith("context.") for name in arrays) else arrays | ContextLifts.none()

    def load_state(self, arrays: Arrays, train: InteractionMatrix) -> Self:
        """Load everything. Raises DataError where inputs, facts and order do not fit each other."""
        self.train_, self.ties_ = train, tie_order(train.items, self.seed)
        for place, model in enumerate(self.models_):
            model.load_state(state_of_member(arrays, place), train)
        self.facts_ = Facts.load_state(arrays, train)
        self.order_ = load_order(self.learner, arrays)
        self.gains_ = arrays["gains"]
        n_inputs = 2 * len(self.models_) + len(self.facts_.names)
        for name, has in (("n_inputs", int(arrays["n_inputs"][0])), ("gains", len(self.gains_))):
            if has != n_inputs:
                text = f"{self.family}: array {name!r} is of {has} inputs, and members and facts give {n_inputs}"
                raise DataError(text, where=name)
        return self


def _asked(users: np.ndarray, context: pl.DataFrame | None) -> np.ndarray:
    """A number for each pair, the same where user and context are: int64 (n,)."""
    numbers = users.astype(np.int64)
    if context is None or not context.width:
        return numbers
    contexts = context.select(pl.struct(pl.all()).rank("dense")).to_series().to_numpy().astype(np.int64)
    return numbers * (int(contexts.max(initial=0)) + 1) + contexts
