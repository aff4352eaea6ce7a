"""Users and items that training never saw, scored from columns of their tables: as if they had been there without an
interaction."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import polars as pl
import pytest

import gleaner.demo
from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.tables.column_encodings import ENCODINGS, read_encoding
from gleaner.core.data.tables.row_features import encodings_from_json, features_of, read_cells
from gleaner.core.errors import DataError, InputError
from gleaner.core.fitted import Fitted
from gleaner.core.models.base.capabilities import factors_of, knowing_columns
from gleaner.core.models.base.likelihood import Calibration
from gleaner.core.models.base.registry import build
from gleaner.core.new_items import with_new_items
from tolerances import SINGLE, SUMMED
from worlds import COLUMN_TYPES, ids, rated_matrix, tables_for

KNOWING = {
    "feature_sum": {"rank": 3, "iterations": 4, "loss": "bpr"},
    "fm_ranking": {"rank": 3, "iterations": 4},
    "fm_values": {"rank": 3, "iterations": 12, "samples": 4},
    "ffm_values": {"rank": 2, "iterations": 4},
}
N_USERS, N_ITEMS = 40, 14


@pytest.fixture(scope="module")
def world():
    """A matrix whose last six users and three items have no interaction, the tables, and features learned from the
    others."""
    some = rated_matrix(4)
    kept = some.only((some.user_rows < N_USERS - 6) & (some.indices < N_ITEMS - 3))
    matrix = kept.onto(ids("u", N_USERS), ids("i", N_ITEMS))
    items, users = tables_for(matrix)
    # cells that training never saw: a family, and a gap
    items = items.with_columns(
        family=pl.when(pl.col("id") == items["id"][-1]).then(pl.lit("squash")).otherwise("family"),
        about=pl.when(pl.col("id") == items["id"][-2]).then(None).otherwise("about"),
    )
    met = {"items": np.arange(N_ITEMS) < N_ITEMS - 3, "users": np.arange(N_USERS) < N_USERS - 6}
    return matrix, items, users, features_of(matrix.items, matrix.users, items, users, COLUMN_TYPES, met)


@pytest.mark.parametrize("family", KNOWING)
def test_what_is_served_is_what_was_trained(family, world):
    """No skew: rows of the tables, encoded by what is kept with the model, come to what training made of them."""
    matrix, items, users, features = world
    model = build(family, KNOWING[family]).fit(matrix, features=features)
    again = build(family, model.params()).restore(model.state(), matrix)
    factors = factors_of(again)
    new_items, new_users = items.tail(2), users.tail(5)
    item_rows, user_rows = matrix.items.rows(new_items["id"].to_list()), matrix.users.rows(new_users["id"].to_list())
    np.testing.assert_allclose(
        again.factors_of_rows("items", new_items), factors.items[item_rows], rtol=SUMMED, atol=SINGLE
    )
    np.testing.assert_allclose(
        again.factors_of_rows("users", new_users), factors.users[user_rows], rtol=SUMMED, atol=SINGLE
    )
    assert np.ptp(factors.items[item_rows], axis=0).max() > 0.01
    assert again.column_names("items") == ["family", "traits", "days", "about"]
    assert knowing_columns(again, "users") is again


@pytest.mark.parametrize("family", KNOWING)
def test_rows_of_another_table_are_refused(family, world):
    matrix, items, _, features = world
    model = build(family, KNOWING[family]).fit(matrix, features=features)
    with pytest.raises(InputError, match="no column 'family'") as refused:
        model.factors_of_rows("items", items.drop("family"))
    assert refused.value.where == "family"
    with pytest.raises(InputError, match="'days' does not hold a number"):
        model.factors_of_rows("items", items.with_columns(days=pl.lit("soon")))
    bare = build(family, KNOWING[family] | {"item_columns": []}).fit(matrix, features=features)
    assert knowing_columns(bare, "items") is None


@pytest.mark.parametrize("family", ["feature_sum", "fm_ranking", "fm_values"])
def test_a_model_from_before_columns_were_kept_still_lists(family, world):
    matrix, _, _, features = world
    model = build(family, KNOWING[family]).fit(matrix, features=features)
    old = {name: each for name, each in model.state().items() if name.split("_")[-1] not in ("columns", "encodings")}
    old.pop("encodings", None)
    again = build(family, model.params()).restore(old, matrix)
    rows = np.arange(N_USERS, dtype=np.int32)
    np.testing.assert_array_equal(again.scores(rows), model.scores(rows))
    assert knowing_columns(again, "items") is None


def test_there_is_no_skew_on_the_demo_world():
    """Real tables with gaps, lists and texts: 40 varieties and 60 growers without an interaction in training come to
    the same by the model that was kept as they did in the fit."""
    folder = Path(gleaner.demo.__file__).parent / "data"
    rows = pl.read_csv(folder / "interactions.csv.gz").select(user="grower", item="variety").unique(maintain_order=True)
    items, kinds = read_cells(pl.read_csv(folder / "varieties.csv.gz").rename({"variety": "id"}))
    users, user_kinds = read_cells(pl.read_csv(folder / "growers.csv.gz").rename({"grower": "id"}))
    new_items, new_users = items.tail(40), users.tail(60)
    seen = rows.filter(
        ~pl.col("item").is_in(new_items["id"].implode()), ~pl.col("user").is_in(new_users["id"].implode())
    )
    user_ids, item_ids = IdMap(users["id"].to_list()), IdMap(items["id"].to_list())
    matrix = InteractionMatrix.from_cells(
        user_ids.rows(seen["user"].to_list()), item_ids.rows(seen["item"].to_list()), np.ones(seen.height, np.float32),
        user_ids, item_ids,
    )  # fmt: skip
    met = {"items": matrix.item_counts > 0, "users": np.diff(matrix.indptr) > 0}
    features = features_of(item_ids, user_ids, items, users, {"items": kinds, "users": user_kinds}, met)
    assert len(features.items) > 5
    assert any(table[name].null_count() for table in (items, users) for name in table.columns)
    model = build("feature_sum", {"rank": 4, "iterations": 1}).fit(matrix, features=features)
    again = build("feature_sum", model.params()).restore(model.state(), matrix)
    for side, new, ids_, factors in (
        ("items", new_items, item_ids, model.item_factors_), ("users", new_users, user_ids, model.user_factors_),
    ):  # fmt: skip
        trained = factors[ids_.rows(new["id"].to_list())]
        np.testing.assert_allclose(again.factors_of_rows(side, new), trained, rtol=SUMMED, atol=SINGLE)
        assert np.ptp(trained, axis=0).max() > 0


CELLS = {
    "category": pl.Series("c", ["a", "b", None, "b"]),
    "categories": pl.Series("c", [["a"], ["b", "a"], None, []]),
    "number": pl.Series("c", [1.5, None, 3.0, 9.0]),
    "flag": pl.Series("c", [True, None, False, True]),
    "date": pl.Series("c", ["2026-01-01", None, "2026-02-03", "2026-03-04"]).str.to_date(),
    "text": pl.Series("c", ["sweet pea", "sweet bean", None, "a pea"]),
}


@pytest.mark.parametrize("role", ENCODINGS)
def test_every_encoding_comes_back_from_its_record(role):
    learned = ENCODINGS[role].learn(CELLS[role])
    again = read_encoding(json.loads(json.dumps(learned.record())))
    assert again.names == learned.names
    assert again.how == learned.how
    np.testing.assert_array_equal(again.encode(CELLS[role]).toarray(), learned.encode(CELLS[role]).toarray())


@pytest.mark.parametrize("role", ENCODINGS)
def test_records_that_do_not_fit_are_refused(role):
    record = ENCODINGS[role].learn(CELLS[role]).record()
    wrong = [record | {name: value} for name in record for value in (None, ["x", "x"], float("nan"), {"a": 1})]
    for each in [*wrong, {}, [], "text", 7]:
        letters = json.dumps({"items": [each]}).encode()
        with pytest.raises(DataError, match="encoder of the columns does not fit"):
            encodings_from_json(letters)


@pytest.mark.parametrize("family", KNOWING)
def test_someone_new_is_folded_in_from_where_their_columns_put_them(family, world):
    matrix, _, users, features = world
    model = build(family, KNOWING[family]).fit(matrix, features=features)
    row, nobody = users.tail(1), np.zeros(0, np.int32)
    by_columns = model.fold_in_row(row, nobody, nobody.astype(np.float32))
    np.testing.assert_allclose(by_columns, model.factors_of_rows("users", row)[0], rtol=SUMMED, atol=SINGLE)
    items, values = np.array([2, 5], np.int32), np.array([5.0, 4.0], np.float32)
    folded = model.fold_in_row(row, items, values)
    scores = factors_of(model).items @ np.stack([by_columns, folded]).T
    others = np.setdiff1d(np.arange(N_ITEMS - 3), items)
    if family == "fm_values":
        np.testing.assert_allclose(folded, folded_by_hand(model, row, items, values), rtol=SUMMED, atol=SINGLE)
    elif family == "ffm_values":
        miss = np.abs(scores[items] - values[:, None]).mean(axis=0)
        assert miss[1] < miss[0]
    else:
        # what they touched rises above the rest
        gain = [column[items].mean() - column[others].mean() for column in scores.T]
        assert gain[1] > gain[0] + 0.01


def folded_by_hand(model, row, items, values):
    """The user's own weight and vector by least squares with a prior, in each draw, and then the factor of lists."""
    vectors, weights, n = [], [], len(model.draws_)
    encodings = model.columns_["users"]
    features = np.concatenate([each.encode(row[each.column]).toarray()[0] for each in encodings]).astype(float)
    ends = np.cumsum([len(each.names) for each in encodings])[:-1]
    for draw in model.draws_:
        parts = [
            x @ table
            for x, table in zip(np.split(features, ends), np.split(draw.user_columns.astype(float), ends), strict=True)
        ]
        weight = sum(part[0] for part in parts) + sum(
            parts[a][1:] @ parts[b][1:] for a in range(len(parts)) for b in range(a)
        )  # fmt: skip
        # products of features within one column
        for x, table in zip(np.split(features, ends), np.split(draw.user_columns.astype(float), ends), strict=True):
            weight += sum(x[a] * x[b] * table[a, 1:] @ table[b, 1:] for a in range(len(x)) for b in range(a))
        vector = sum(part[1:] for part in parts)
        mean, precision = draw.priors[0]
        rows, left = [], []
        for item, value in zip(items, values, strict=True):
            y = draw.items[item].astype(float)
            rows.append([1.0, *(y[1:] + vector)])
            left.append(value - draw.base - y[0] - weight - vector @ y[1:])
        noise = np.sqrt(draw.precision)
        system = np.vstack([noise * np.array(rows), np.diag(np.sqrt(precision))])
        wanted = np.concatenate([noise * np.array(left), np.sqrt(precision) * mean])
        own = np.linalg.lstsq(system, wanted, rcond=None)[0]
        vectors.append((own[1:] + vector) / np.sqrt(n))
        weights.append((draw.base + own[0] + weight + own[1:] @ vector) / n)
    return np.concatenate([*vectors, [sum(weights), 1.0]])


@pytest.mark.parametrize("family", KNOWING)
def test_new_items_stand_behind_the_others(family, world):
    matrix, items, _, features = world
    model = build(family, KNOWING[family]).fit(matrix, features=features)
    fitted = Fitted("m@1", model, matrix)
    more = pl.concat([items, items.tail(2).with_columns(id=pl.Series(["new-a", "new-b"]))])
    extended = with_new_items(fitted, more, None, 5)
    assert extended.train.items.ids.to_pylist()[-2:] == ["new-a", "new-b"]
    scores = extended.model.scores(np.arange(3, dtype=np.int32))
    # they say of themselves what the last two say, of whom training saw nothing else
    rows = matrix.items.rows(items["id"].tail(2).to_list())
    np.testing.assert_allclose(scores[:, -2:], scores[:, rows], rtol=SUMMED, atol=SINGLE)
    np.testing.assert_allclose(scores[:, :N_ITEMS], model.scores(np.arange(3, dtype=np.int32)), rtol=SINGLE)
    assert extended.sources_of(np.array([3, N_ITEMS + 1])) == ["m@1", "m@1, by its columns"]
    assert with_new_items(fitted, items, None, 5) is fitted
    if family in ("fm_values", "ffm_values"):
        table = extended.rate(["u3", "u3"], ["i1", "new-a"])
        assert table["answerable"].to_list() == [True, True]
    bare = Fitted("b@1", build("als", {"rank": 2}).fit(matrix), matrix)
    with pytest.raises(InputError, match="looks at no columns of items"):
        with_new_items(bare, items, None, 5)


@pytest.mark.parametrize("family", KNOWING)
def test_pairs_of_new_rows_are_answered_as_those_that_were_there(family, world):
    """Twins, by other ids, of users and items that training had without an interaction."""
    matrix, items, users, features = world
    model = build(family, KNOWING[family] | ({"loss": "logistic"} if "sum" in family or "ranking" in family else {}))
    fitted = Fitted("m@1", model.fit(matrix, features=features), matrix, Calibration(1.0, 0.0))
    tables = {
        "users": pl.concat([users, users.tail(1).with_columns(id=pl.lit("new-u"))]),
        "items": pl.concat([items, items.tail(1).with_columns(id=pl.lit("new-i"))]),
    }
    answer = fitted.rate if family.endswith("values") else fitted.likelihood
    name = "value" if family.endswith("values") else "likelihood"
    u, i = users["id"][-1], items["id"][-1]
    asked = ["new-u", u, "new-u", "u3", "nobody", "new-u"], ["new-i", i, "i2", "new-i", "i2", "nothing"]
    told = answer(*asked, tables=tables)
    assert told["answerable"].to_list() == [True, True, True, True, False, False]
    assert told["reason"].to_list()[-2:] == ["unknown user", "unknown item"]
    first, twin = told[name].to_list()[:2]
    assert first == pytest.approx(twin, rel=SINGLE * 10)
    third, fourth = told[name].to_list()[2:4]
    there = answer([u, "u3"], ["i2", i])[name].to_list()
    assert [third, fourth] == pytest.approx(there, rel=SINGLE * 10)
    # without tables, or with those of another dataset, nothing is known
    assert not answer(["new-u"], ["i2"])["answerable"][0]
    assert not answer(["new-u"], ["i2"], tables={"users": tables["users"].drop("zone")})["answerable"][0]
    assert fitted.model.trained_on is matrix
