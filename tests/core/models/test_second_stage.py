"""A learned order of several models' candidates, against plain loops; and that nothing it learns saw the pair."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import ClassVar

import numpy as np
import pytest

from gleaner.core import parallel
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.row_features import Features
from gleaner.core.data.ties import tie_order
from gleaner.core.errors import DataError, ParameterError
from gleaner.core.fitted import Fitted
from gleaner.core.kernels.second_stage import tree_sums, tree_terms
from gleaner.core.metrics.evaluation import RankPlan, evaluate
from gleaner.core.models.base.protocol import Model, learned
from gleaner.core.models.base.registry import FAMILIES, build
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.linear import chosen_regularisation
from gleaner.core.models.second_stage import folds, linear, trees
from gleaner.core.models.second_stage.folds import Folding, held_out_of
from gleaner.core.models.second_stage.inputs import Facts, candidates_of, member_inputs
from gleaner.core.splits.truth import Truth
from tolerances import SINGLE, SOLVED
from worlds import features_for, ids, random_matrix

MEMBERS = ["item_knn", {"als": {"rank": 4, "iterations": 3}}, "popular"]
SMALL = {"members": MEMBERS, "candidates": 20, "folds": 2, "rounds": 10, "leaves": 7, "least": 5}


def world(seed: int = 1, n_users: int = 120, n_items: int = 40) -> InteractionMatrix:
    """Users of three tastes, each with items of theirs for the most part."""
    random = np.random.default_rng(seed)
    chances = np.where(np.arange(n_users)[:, None] % 3 == np.arange(n_items)[None] % 3, 0.4, 0.05)
    users, items = np.nonzero(random.random((n_users, n_items)) < chances)
    return InteractionMatrix.from_cells(users, items, np.ones(len(users)), ids("u", n_users), ids("i", n_items))


@pytest.mark.parametrize("learner", ["trees", "linear", "network"])
def test_a_score_is_the_sum_of_what_its_inputs_add(learner):
    matrix = world()
    model = build("second_stage", SMALL | {"learner": learner}).fit(matrix, features=features_for(matrix))
    explained = []
    for user, item in [(3, 5), (3, 6), (40, 1), (77, 30)]:
        if item in matrix.history(user)[0] or (terms := model.terms(user, item)) is None:
            continue
        explained.append((f"u{user}", f"i{item}"))
        assert terms.side == "input"
        assert terms.result == pytest.approx(float(model.scores(np.array([user], np.int32))[0, item]), abs=SINGLE)
        assert set(terms.names) == set(model.input_names)
    shown = Fitted("second", model, matrix).explain(*explained[0])
    assert shown.side == "input"
    assert shown.terms.columns == ["input", "value", "adds"]
    assert sum(model.importance().values()) == pytest.approx(1.0)


def test_trees_are_walked_as_the_library_that_learned_them_does():
    import lightgbm

    random = np.random.default_rng(3)
    table = random.normal(size=(600, 5)).astype(np.float32)
    table[:, 4] = np.round(table[:, 4])
    labels = (table[:, 0] + table[:, 4] + random.normal(size=600) > 1).astype(np.float32)
    groups = np.full(60, 10)
    options = {"rounds": 20, "num_leaves": 7, "min_data_in_leaf": 5, "learning_rate": 0.1, "seed": 1}
    learned_trees, gains = trees.learn(table, labels, groups, dict(options), lambda done: None)
    options.pop("rounds")
    settings = options | {"objective": "lambdarank", "deterministic": True, "force_row_wise": True, "verbosity": -1}
    booster = lightgbm.train(
        settings | {"use_missing": False}, lightgbm.Dataset(table, labels, group=groups), num_boost_round=20
    )
    np.testing.assert_allclose(learned_trees.sums(table), booster.predict(table), rtol=SOLVED)
    assert gains.argmax() in (0, 4)
    for row in table[:20]:
        start, adds = learned_trees.terms(row)
        assert start + adds.sum() == pytest.approx(learned_trees.sums(row[None])[0], abs=SOLVED)


def test_kernels_of_trees_do_the_same_uncompiled():
    # input 1 at most 0.5: then input 0 at most -1 gives 1 or 2; else 4
    parts = (
        np.array([0], np.int32), np.array([1, 0, -1, -1, -1], np.int32), np.array([0.5, -1, 0, 0, 0], np.float32),
        np.array([1, 2, 0, 0, 0], np.int32), np.array([4, 3, 0, 0, 0], np.int32), np.array([2.0, 1.5, 1.0, 2.0, 4.0]),
    )  # fmt: skip
    table = np.array([[-2, 0], [0, 0.5], [0, 1]], np.float32)
    for sums, terms in ((tree_sums, tree_terms), (tree_sums.py_func, tree_terms.py_func)):
        out = np.zeros(3)
        sums(table, *parts, out)
        assert out.tolist() == [1.0, 2.0, 4.0]
        adds = np.zeros(2)
        assert terms(table[0], *parts, adds) == 2.0
        assert adds.tolist() == [-0.5, -0.5]


def test_the_linear_order_minimises_the_loss_over_lists():
    random = np.random.default_rng(5)
    groups = random.integers(3, 8, 30)
    table = random.normal(size=(groups.sum(), 3)).astype(np.float32)
    bounds = np.concatenate([[0], np.cumsum(groups)])
    labels = np.zeros(len(table), np.float32)
    labels[bounds[:-1]] = 1

    def loss(weights: np.ndarray) -> float:
        """By plain loops."""
        total, standard = 0.0, (table - table.mean(axis=0)) / table.std(axis=0)
        for lo, hi in pairwise(bounds):
            scores = [float(standard[row] @ weights) for row in range(lo, hi)]
            whole = math.log(sum(math.exp(each) for each in scores))
            total -= sum(labels[lo + at] * (score - whole) for at, score in enumerate(scores)) / labels[lo:hi].sum()
        return total / len(groups) + 0.1 / 2 * float(weights @ weights)

    best = linear.learn(table, labels, groups, 0.1).weights
    for step in np.vstack([np.eye(3), -np.eye(3)]) * 0.02:
        assert loss(best) < loss(best + step)


def test_inputs_of_members_by_hand():
    known = np.array([0, 1, 1], np.int64), np.array([2], np.int32)
    tables = [np.array([[3, 1, 9, 2], [0, 0, 0, 1]], np.float32), np.array([[0, 1, 0, 0], [4, 3, 2, 1]], np.float32)]
    users, ties = np.arange(2, dtype=np.int32), np.arange(4, dtype=np.int32)
    candidates = candidates_of(tables, known, users, 2, ties)
    # of user 0, who has item 2: 0 and 3, and 1 and 0; of user 1: 3 and 0, and 0 and 1
    assert candidates.items.tolist() == [0, 1, 3, 0, 1, 3]
    assert candidates.bounds.tolist() == [0, 3, 6]
    assert candidates.places.tolist() == [[1, 2], [3, 1], [2, 3], [2, 1], [3, 2], [1, 3]]
    inputs = member_inputs(candidates)
    np.testing.assert_allclose(inputs[:3, 0], (np.array([3, 1, 2]) - 2) / np.sqrt(2 / 3), rtol=SINGLE)
    np.testing.assert_allclose(inputs[:3, 1], 1 / (1 + np.log([1, 3, 2])), rtol=SINGLE)


def test_what_a_history_and_an_item_have_in_common_is_an_angle():
    matrix = world()
    features = features_for(matrix)
    facts = Facts.of(matrix, features)
    place = facts.names.index("in common: family")
    column = next(each for each in features.items if each.name == "family")
    rows = column.matrix.toarray()
    rows /= np.where(norms := np.linalg.norm(rows, axis=1, keepdims=True), norms, 1)
    for user, item in [(0, 1), (5, 39), (80, 17)]:
        history = rows[matrix.history(user)[0]].sum(axis=0)
        expected = history @ rows[item] / (np.linalg.norm(history) or 1)
        actual = facts.of_pairs(np.array([user]), np.array([item]), np.zeros(1, np.int64), None)[0, place]
        assert actual == pytest.approx(expected, abs=SINGLE)


def test_no_member_sees_a_pair_that_it_is_judged_by(monkeypatch):
    matrix, seen = world(), []
    original = folds._lists

    def watching(candidates, facts, wanted, how, random):
        seen.append((candidates.users, wanted))
        return original(candidates, facts, wanted, how, random)

    monkeypatch.setattr(folds, "_lists", watching)
    trained: list[InteractionMatrix] = []
    popular = FAMILIES["popular"]
    learn = popular.learn
    monkeypatch.setattr(
        popular, "learn", lambda self, train, *more: (trained.append(train), learn(self, train, *more))[1]
    )
    build("second_stage", SMALL).fit(matrix)
    assert len(trained) == SMALL["folds"] + 1
    judged = set()
    for train, (users, wanted) in zip(trained, seen, strict=False):
        there = set(zip(train.user_rows.tolist(), train.indices.tolist(), strict=True))
        held_out = set(zip(wanted.user_rows.tolist(), wanted.indices.tolist(), strict=True))
        assert held_out
        assert not held_out & there
        judged |= set(users.tolist())
    # every user who has two items or more is learned from, and keeps something
    assert judged == set(np.flatnonzero(np.diff(matrix.indptr) > 1).tolist())
    assert all((np.diff(train.indptr)[np.diff(matrix.indptr) > 0] > 0).all() for train in trained)


@dataclass(repr=False)
class Memory(Model):
    """A model that remembers the pairs it was fitted on and knows nothing else: 1 for those, a random score otherwise."""

    family: ClassVar[str] = "memory"
    feedback: ClassVar = "either"
    summary: ClassVar[str] = "a shortcut"
    train_: InteractionMatrix | None = learned(lambda: None)

    def learn(self, train, features, watch):
        self.train_ = train

    def scores(self, user_rows):
        table = np.random.default_rng(1).random((len(self.trained_on.users), len(self.trained_on.items)))[user_rows] / 2
        for place, row in enumerate(user_rows):
            table[place, self.trained_on.history(int(row))[0]] = 1.0
        return table.astype(np.float32)

    def state(self):
        return {}

    def layout(self, train):
        return {}

    def load_state(self, arrays, train):
        return self


def test_a_shortcut_would_look_better_and_is_not_taken(monkeypatch):
    """A member that remembers its training pairs: judged by these it is perfect, out of fold it is worth nothing."""
    from gleaner.core.models.composition import members

    matrix, rest = world(2), world(3)
    build_family = members.build
    monkeypatch.setattr(
        members, "build", lambda name, params: Memory() if name == "memory" else build_family(name, params)
    )
    settings = SMALL | {"members": ["memory", "item_knn"], "learner": "linear", "candidates": 40}
    honest = build("second_stage", settings).fit(matrix)
    shares = honest.importance()
    assert shares["memory: score"] + shares["memory: place"] < 0.2
    # the shortcut: members that saw everything are judged by what they saw
    monkeypatch.setattr(InteractionMatrix, "only", lambda self, kept: self)
    monkeypatch.setattr(folds, "candidates_of", lambda tables, known, users, most, ties, context: candidates_of(
        tables, (np.zeros(len(matrix.users) + 1, np.int64), np.empty(0, np.int32)), users, most, ties))  # fmt: skip
    taken = build("second_stage", settings).fit(matrix)
    monkeypatch.undo()
    assert taken.importance()["memory: score"] + taken.importance()["memory: place"] > 0.5
    del rest


def test_what_members_choose_in_the_first_fold_holds_for_the_others(monkeypatch):
    calls: list[float] = []
    choose = chosen_regularisation.choose_regularisation

    def counted(*given):
        calls.append(choose(*given))
        return calls[-1]

    monkeypatch.setattr(chosen_regularisation, "choose_regularisation", counted)
    model = build("second_stage", SMALL | {"members": ["item_linear", "popular"], "folds": 4}).fit(world())
    # once in the first fold, and once for the members that are kept
    assert len(calls) == 2
    assert model.chosen() == {"item_linear.regularisation": calls[1]}


def test_lists_do_not_depend_on_the_number_of_threads(monkeypatch):
    matrix = world(5)
    monkeypatch.setattr(folds, "BLOCK", 16)
    several = build("second_stage", SMALL).fit(matrix)
    monkeypatch.setattr(parallel, "default_threads", lambda: 1)
    one = build("second_stage", SMALL).fit(matrix)
    users = np.arange(len(matrix.users), dtype=np.int32)
    np.testing.assert_array_equal(several.scores(users), one.scores(users))


def test_it_ranks_better_than_its_worst_member_and_survives_its_state():
    matrix = world(4, 300, 60)
    random = np.random.default_rng(1)
    held = random.random(matrix.n_cells) < 0.25
    train, test = matrix.only(~held), matrix.only(held)
    rows = np.flatnonzero(np.diff(test.indptr) > 0).astype(np.int32)
    counts = np.diff(test.indptr)[rows]
    truth = Truth(rows, np.concatenate([[0], np.cumsum(counts)]), test.indices, 0, 0, 0)
    plan, ties = RankPlan(["ndcg"], [10], 1), tie_order(train.items)
    model = build("second_stage", SMALL | {"folds": 3}).fit(train)
    figures = {
        name: evaluate(each, train, truth, plan, ties).means["ndcg@10"].mean
        for name, each in {"second": model, "popular": build("popular", {}).fit(train)}.items()
    }
    assert figures["second"] > figures["popular"] + 0.1
    again = build("second_stage", SMALL | {"folds": 3}).restore(model.state(), train)
    everyone = np.arange(len(train.users), dtype=np.int32)
    np.testing.assert_array_equal(again.scores(everyone), model.scores(everyone))
    assert again.input_names == model.input_names
    broken = model.state()
    broken["trees.left"] = broken["trees.left"].copy()
    broken["trees.left"][0] = 0
    with pytest.raises(DataError, match="leads a walk back"):
        build("second_stage", SMALL | {"folds": 3}).restore(broken, train)


def test_someone_new_is_served_by_the_members_that_can():
    matrix = world()
    model = build("second_stage", SMALL).fit(matrix)
    items, values = matrix.history(3)
    scores = model.scores_of(model.fold_in(items, values))
    best = [item for item in np.argsort(-scores, kind="stable") if item not in items][:5]
    # most of what they like is of their own third of the items
    assert sum(item % 3 == 0 for item in best) >= 4


@pytest.mark.parametrize(
    ("params", "message"),
    [
        ({"members": []}, "members must be a list of 1 to 10 models"),
        ({"members": ["second_stage"]}, "second_stage has members, and cannot be one"),
        ({"members": ["nothing"]}, "there is no model family 'nothing'"),
        ({"learner": "forest"}, "learner must be one of trees, linear, network"),
        ({"folds": 1}, "folds"),
        ({"share": 1.0}, "share"),
    ],
)
def test_what_does_not_fit_is_named(params, message):
    with pytest.raises(ParameterError, match=message):
        build("second_stage", params)


def test_members_that_bring_nothing_are_told():
    matrix = random_matrix(1)
    one_each = matrix.only(np.concatenate([[True], np.diff(matrix.user_rows) != 0]))
    with pytest.raises(DataError, match="no member lists anything that was held out"):
        build("second_stage", SMALL | {"members": ["popular"]}).fit(one_each, features=Features())


def dated() -> InteractionMatrix:
    """The same with a day for each cell."""
    matrix = world()
    return replace(matrix, days=20_000 + np.random.default_rng(6).permutation(matrix.n_cells) / 5)


def test_how_long_ago_is_counted_where_it_is_asked_for():
    matrix = dated()
    facts = Facts.of(matrix, features_for(matrix), time_since=True)
    plain = Facts.of(matrix, features_for(matrix))
    assert set(facts.names) - set(plain.names) == {
        "item: log of the days since it was first taken", "item: log of the days since it was last taken",
        "in common lately: family", "in common lately: traits", "in common lately: about",
    }  # fmt: skip
    newest, item, user = matrix.days.max(), 5, 7
    for which, day in (
        ("first", matrix.days[matrix.indices == item].min()),
        ("last", matrix.days[matrix.indices == item].max()),
    ):
        told = facts.item_facts[item, facts.names.index(f"item: log of the days since it was {which} taken")]
        assert told == pytest.approx(np.log1p(newest - day), rel=SINGLE)
    rows = next(each for each in features_for(matrix).items if each.name == "family").matrix.toarray().astype(float)
    mine = matrix.user_rows == user
    weights = 0.5 ** ((matrix.days[mine].max() - matrix.days[mine]) / 30)
    history = (weights[:, None] * rows[matrix.indices[mine]]).sum(axis=0)
    expected = history @ rows[item] / (np.linalg.norm(history) * (np.linalg.norm(rows[item]) or 1))
    place = facts.names.index("in common lately: family")
    told = facts.of_pairs(np.array([user]), np.array([item]), np.zeros(1, np.int64), None)[0, place]
    assert told == pytest.approx(expected, rel=SINGLE * 10)
    model = build("second_stage", SMALL | {"time_since": True}).fit(matrix, features=features_for(matrix))
    again = build("second_stage", model.params()).restore(model.state(), matrix)
    np.testing.assert_array_equal(again.scores(np.arange(3)), model.scores(np.arange(3)))


def test_the_latest_of_each_user_is_held_out_unless_it_is_drawn():
    matrix = dated()
    how = Folding(2, 0.3, True, 20, 10, 1)
    _, held = held_out_of(matrix, how)
    for user in range(len(matrix.users)):
        mine = matrix.user_rows == user
        if held[mine].any():
            assert matrix.days[mine][held[mine]].min() >= matrix.days[mine][~held[mine]].max()
    _, drawn = held_out_of(matrix, replace(how, latest=False))
    assert (drawn != held).any()
    assert drawn.sum() == held.sum()
    # in a contest that divides at random the model follows it
    lessons_of = []
    for later in (True, False):
        watch = Watch(judged_later=later)
        model = build("second_stage", SMALL | {"share": 0.3}).fit(matrix, features=features_for(matrix), watch=watch)
        lessons_of.append(model.importance())
    assert lessons_of[0] != lessons_of[1]
