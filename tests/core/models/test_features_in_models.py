"""Models that look at what users and items are, against plain loops."""

from __future__ import annotations

import numpy as np
import polars as pl
import pytest

from gleaner.core.data.tables.row_features import chosen, features_of, without_columns
from gleaner.core.errors import InputError, ParameterError
from gleaner.core.models.base.capabilities import taking_features
from gleaner.core.models.base.facts import FamilyFacts
from gleaner.core.models.base.registry import FAMILIES, build
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.machines.stepped_factors import RANKING_LOSSES
from reference import models as naive
from tolerances import KEPT, SINGLE, SUMMED
from worlds import dense_of, features_for, ids, random_matrix, rated_matrix, tables_for

EVERYONE = np.arange(40, dtype=np.int32)


@pytest.mark.parametrize("rarity", ["idf", "none"])
def test_content_agrees_with_plain_loops(rarity):
    matrix = rated_matrix(4)
    features = features_for(matrix)
    model = build("item_content", {"rarity": rarity}).fit(matrix, features=features)
    blocks = [
        (column.matrix.toarray().astype(float), rarity == "idf" and column.role != "text")
        for column in features.items
        if column.role != "number"
    ]
    assert len(blocks) == 3
    dense, observed = dense_of(matrix)
    actual = model.scores(EVERYONE)
    for user in (3, 9, 22):
        x = np.where(observed[user], np.log1p(dense[user]), 0)
        np.testing.assert_allclose(actual[user], naive.content_scores(blocks, x), rtol=SUMMED, atol=SINGLE)
    terms = model.terms(9, 4)
    assert terms.result == pytest.approx(actual[9, 4], abs=SINGLE)


def test_content_looks_at_the_columns_it_was_told_to():
    matrix = rated_matrix(4)
    features = features_for(matrix)
    model = build("item_content", {"item_columns": ["family"], "weighting": "binary"}).fit(matrix, features=features)
    items, _ = matrix.history(9)
    same = [np.mean([a % 3 == b % 3 and max(a, b) < 13 for a in items]) for b in range(14)]
    np.testing.assert_allclose(model.scores(EVERYONE[9:10])[0], same, atol=KEPT)


def test_a_new_item_is_the_sum_of_the_vectors_of_its_features():
    matrix = rated_matrix(4)
    features = features_for(matrix)
    params = {"rank": 3, "iterations": 3, "item_columns": ["traits", "days"], "feature_weight": 0.5}
    model = build("feature_sum", params).fit(matrix, features=features)
    E, columns = model.item_columns_.astype(float), {each.name: each.matrix.toarray() for each in features.items}
    # two columns share a weight of 0.5; a row of two traits has length one
    expected = [
        0.5 / np.sqrt(2) * np.concatenate([columns["traits"][i] / max(np.linalg.norm(columns["traits"][i]), 1e-9),
                                           columns["days"][i]]) @ E
        for i in range(14)
    ]  # fmt: skip
    table = tables_for(matrix)[0]
    assert table.height == 13
    np.testing.assert_allclose(model.factors_of_rows("items", table), expected[:13], rtol=SUMMED, atol=SINGLE)


def test_someone_without_interactions_is_what_their_columns_say():
    matrix = random_matrix(3, n_users=40, n_items=14)
    model = build("feature_sum", {"rank": 3, "iterations": 3}).fit(matrix, features=features_for(matrix))
    assert not len(matrix.history(0)[0])
    assert np.abs(model.user_factors_[0, :3]).max() > 0
    bare = build("feature_sum", {"rank": 3, "iterations": 3, "user_columns": []}).fit(
        matrix, features=features_for(matrix)
    )
    assert not bare.user_factors_[0, :3].any()


def test_columns_that_decide_help_and_the_loss_falls():
    """Users of a zone take the items of one family: columns say so, a single interaction a user does not."""
    random = np.random.default_rng(8)
    n_users, n_items = 300, 60
    users = np.repeat(np.arange(n_users), 2)
    # one of the first ten items of the family and one of the rest
    of_family = random.integers(0, 10, len(users)) + np.tile([0, 10], n_users)
    items = (of_family * 3 + users % 3).astype(np.int32)
    train = rated_matrix(1).from_cells(users, items, np.ones(len(users)), ids("u", n_users), ids("i", n_items))
    features = features_of(
        train.items, train.users,
        pl.DataFrame({"id": train.items.ids.to_pylist(), "family": [f"f{i % 3}" for i in range(n_items)]}),
        pl.DataFrame({"id": train.users.ids.to_pylist(), "zone": [f"z{u % 3}" for u in range(n_users)]}),
        {"items": {"family": "category"}, "users": {"zone": "category"}},
    )  # fmt: skip
    share = {}
    for loss in RANKING_LOSSES:
        for columns in (None, []):
            watch = Watch(end_round=lambda _: None)
            params = {"rank": 4, "loss": loss, "item_columns": columns, "user_columns": columns, "iterations": 30}
            model = build("feature_sum", params).fit(train, features=features, watch=watch)
            losses = [each.losses["training"] for each in watch.rounds]
            assert losses[-1] < losses[0]
            best = np.argsort(-model.scores(np.arange(n_users, dtype=np.int32)), axis=1)[:, :10]
            share[loss, columns is None] = float((best % 3 == np.arange(n_users)[:, None] % 3).mean())
        assert share[loss, True] > max(0.9, share[loss, False])


def test_a_column_that_is_not_there_is_named():
    matrix = rated_matrix(4)
    features = features_for(matrix)
    for family, where, more in (("item_content", "item_columns", {}), ("feature_sum", "user_columns", {"rank": 4})):
        with pytest.raises(ParameterError, match="there is no column 'colour' to take features from") as text:
            build(family, more | {where: ["colour"]}).fit(matrix, features=features)
        assert text.value.where == where
        with pytest.raises(ParameterError, match=f"{where} must be a list of column names, not 'family'"):
            build(family, {where: "family"})
    with pytest.raises(ParameterError, match="'days' holds a number"):
        build("item_content", {"item_columns": ["days"]}).fit(matrix, features=features)
    with pytest.raises(InputError, match="item_content has no column of an item table to look at"):
        build("item_content", {}).fit(matrix)
    with pytest.raises(ParameterError, match="loss must be one of bpr, warp, logistic, not 'hinge'"):
        build("feature_sum", {"loss": "hinge"})


def test_columns_are_left_out_by_name_or_by_table():
    matrix = rated_matrix(4)
    columns = build("feature_sum", {}).columns(features_for(matrix))
    assert columns == {"item_columns": ["family", "traits", "days", "about"], "user_columns": ["zone", "years"]}
    left = {part: without_columns(columns, part) for part in ("features", "features.items", "features.about")}
    assert left["features"] == {"item_columns": [], "user_columns": []}
    assert left["features.items"] == {"item_columns": [], "user_columns": ["zone", "years"]}
    assert left["features.about"] == {"item_columns": ["family", "traits", "days"], "user_columns": ["zone", "years"]}
    with pytest.raises(ParameterError, match="there is no such column; it looks at: family, traits, days, about, zone"):
        without_columns(columns, "features.colour")


def test_what_is_learned_of_columns_is_learned_from_training_items():
    matrix = rated_matrix(4)
    table = pl.DataFrame({"id": [*matrix.items.ids.to_pylist(), "i99"], "days": [float(n) for n in range(14)] + [1e6]})
    [column] = features_of(matrix.items, matrix.users, table).items
    days = np.arange(14.0)
    np.testing.assert_allclose(column.matrix.toarray()[:, 0], (days - days.mean()) / days.std(), rtol=SINGLE)
    empty = table.with_columns(days=pl.when(pl.col("id") == "i99").then("days"))
    assert features_of(matrix.items, matrix.users, empty).items == ()
    assert chosen((column,), None, "item_columns") == [column]


def test_families_say_whether_they_take_columns():
    takers = {name for name, each in FAMILIES.items() if FamilyFacts.of(each).takes_features}
    assert takers == {
        "item_content",
        "user_content",
        "feature_sum",
        "fm_values",
        "ffm_values",
        "fm_ranking",
        "second_stage",
        "two_towers",
        "wide_deep",
        "wide_deep_values",
        "deep_fm",
        "deep_fm_values",
        "interaction_network",
    }
    assert taking_features(build("blend", {"members": ["als", "item_content"]})) is not None
    assert taking_features(build("blend", {"members": ["als", "bpr"]})) is None
