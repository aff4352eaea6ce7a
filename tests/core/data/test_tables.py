"""Column types, roles, features, overlap and drift, against plain loops and by example."""

from __future__ import annotations

import hashlib
import json
import math
from datetime import date

import numpy as np
import polars as pl
import pytest

from gleaner.core.data import overlap
from gleaner.core.data.compare import compare, shares
from gleaner.core.data.tables.column_types import guess_type, read_as
from gleaner.core.data.tables.context_encoder import ContextEncoder
from gleaner.core.data.tables.feature_encoder import FeatureEncoder
from gleaner.core.data.tables.roles import propose_roles
from gleaner.core.data.together import MetItems
from gleaner.core.errors import DataError
from reference import data as naive
from tolerances import KEPT, SINGLE


@pytest.mark.parametrize(
    ("cells", "kind"),
    [
        (["1", "2.5", "", "-3e2"], "number"),
        (["007", "012", "100"], "category"),
        (["true", "false", ""], "flag"),
        (["2026-01-01", "", "2026-02-02"], "date"),
        (["https://a.example/x", "https://a.example/y"], "link"),
        (["https://a.example/x.png", "https://a.example/y.JPG?s=1"], "picture"),
        (["a|b", "a", "b|c", "a|c"] * 5, "categories"),
        (["red", "blue"] * 5, "category"),
        (["one two three four five", "six seven eight nine"] * 9, "text"),
        (["ann", "bob", "cid"], "text"),
        (["", ""], "text"),
        (["1", "x"], "text"),
        ([*map(str, range(1, 20)), "n/a"], "number"),
        ([*map(str, range(1, 19)), "n/a"], "text"),
        ([*map(str, range(1, 20)), "n/a", "?"], "text"),
        ([*map(str, range(1, 40)), "007"], "category"),
        ([*["2026-03-01"] * 19, "soon"], "date"),
        ([1, 2, 3], "number"),
        ([True, False], "flag"),
        ([date(2026, 1, 1)], "date"),
        ([["a"], ["b"]], "categories"),
    ],
)
def test_types_are_proposed_from_the_cells(cells, kind):
    assert guess_type(pl.Series("c", cells)).kind == kind


@pytest.mark.parametrize(
    ("cells", "kind", "expected", "wrong"),
    [
        (["1", " 2 ", ""], "number", [1, 2, None], None),
        (["1.5", "2", "x"], "number", [1.5, 2.0, None], [2]),
        (["inf", "2"], "number", [None, 2.0], [0]),
        (["yes", "No", "", "maybe"], "flag", [True, False, None, None], [3]),
        (["2026-01-01", "2026-01-01T09:00:00", "soon"], "date", [date(2026, 1, 1)] * 2 + [None], [2]),
        (["a| b", "", "c||"], "categories", [["a", "b"], None, ["c"]], None),
        (["007", ""], "category", ["007", None], None),
        ([1, 2], "text", ["1", "2"], None),
    ],
)
def test_cells_are_read_as_their_type(cells, kind, expected, wrong):
    read = read_as(pl.Series("c", cells), kind)
    assert read.cells.to_list() == expected
    assert (None if read.wrong is None else read.wrong.arg_true().to_list()) == wrong


def guesses(head, **ids):
    return {guess.role: guess.column for guess in propose_roles(pl.DataFrame(head), **ids)}


def test_roles_are_proposed_by_name_content_and_tables():
    n = 60
    plain = {
        "ts": [f"17000000{i:02d}" for i in range(n)], "stars": [str(1 + i % 5) for i in range(n)],
        "Movie_x": [f"m{i % 7}" for i in range(n)], "userId": [f"u{i % 9}" for i in range(n)],
    }  # fmt: skip
    assert guesses(plain) == {"user": "userId", "time": "ts", "value": "stars", "item": "Movie_x"}
    foreign = {"a": [f"x{i % 9}" for i in range(n)], "b": [f"y{i % 7}" for i in range(n)], "c": ["look", "take"] * 30}
    assert guesses(foreign) == {"kind": "c", "user": "a", "item": "b"}
    ids = pl.Series("thing", [f"x{i}" for i in range(9)])
    assert guesses(foreign, item_ids=ids) == {"item": "a", "kind": "c", "user": "b"}
    reasons = {guess.role: guess.reason for guess in propose_roles(pl.DataFrame(foreign), ids)}
    assert reasons["item"] == "it holds ids of the item table (thing)"
    assert "check it" in reasons["user"]


TABLE = pl.DataFrame(
    {
        "zone": ["Z1", None, "Z2", "Z1"],
        "traits": [["a", "b"], None, ["b"], []],
        "stock": [1.0, None, 4.0, 7.0],
        "surplus": [True, None, False, True],
        "added": [date(2026, 1, 1), date(2026, 1, 3), None, date(2026, 1, 5)],
        "text": ["red bean, red pea", "old bean", None, "new pea"],
    }
)
ROLES = {
    "zone": "category",
    "traits": "categories",
    "stock": "number",
    "surplus": "flag",
    "added": "date",
    "text": "text",
}


def test_features_are_what_they_are_called():
    encoder = FeatureEncoder(ROLES).fit(TABLE)
    actual = encoder.encode(TABLE)
    dense = dict(zip(actual.names, actual.matrix.toarray().T.round(6).tolist(), strict=True))
    assert dense["zone=Z1"] == [1, 0, 0, 1]
    assert dense["zone=(missing)"] == [0, 1, 0, 0]
    assert (dense["traits:a"], dense["traits:b"], dense["traits:(missing)"]) == (
        [1, 0, 0, 0],
        [1, 0, 1, 0],
        [0, 1, 0, 0],
    )
    filled = np.array([1.0, 4.0, 4.0, 7.0])  # the median stands for what is missing
    assert dense["stock"] == pytest.approx(((filled - filled.mean()) / filled.std()).tolist(), abs=SINGLE)
    assert dense["stock (missing)"] == [0, 1, 0, 0]
    assert (dense["surplus"], dense["surplus (missing)"]) == ([1, 0, 0, 1], [0, 1, 0, 0])
    days = np.array([0, 2, 2, 4])
    assert dense["added"] == pytest.approx(((days - days.mean()) / days.std()).tolist(), abs=SINGLE)
    for row, text in enumerate(TABLE["text"].to_list()):
        words = {name[5:]: values[row] for name, values in dense.items() if name.startswith("text~") and values[row]}
        assert words == pytest.approx(naive.tfidf(TABLE["text"].to_list(), text, 2) if text else {}, abs=KEPT)


def test_nothing_is_learned_from_rows_outside_training():
    encoder = FeatureEncoder(ROLES).fit(TABLE.head(3))
    later = pl.DataFrame(
        {
            "zone": ["Z9"],
            "traits": [["new"]],
            "stock": [1000.0],
            "surplus": [None],
            "added": [None],
            "text": ["unheard"],
        },
        schema=TABLE.schema,
    )
    actual = encoder.encode(later)
    row = dict(zip(actual.names, actual.matrix.toarray()[0], strict=True))
    assert not any(value for name, value in row.items() if name.startswith(("zone", "traits", "text")))
    known = np.array([1.0, 2.5, 4.0])
    assert row["stock"] == pytest.approx((1000 - known.mean()) / known.std(), rel=SINGLE)
    assert [report.how for report in encoder.report][2].startswith(
        "scaled: mean 2.5, deviation 1.225, missing cells counted as the median 2.5"
    )
    dates = next(report.how for report in encoder.report if report.column == "added")
    assert dates.startswith("scaled: mean 2026-01-0")
    with pytest.raises(DataError, match="there is no column 'nope'"):
        FeatureEncoder({"nope": "number"}).fit(TABLE)
    with pytest.raises(DataError, match="holds nothing in the training rows"):
        FeatureEncoder({"stock": "number"}).fit(TABLE.slice(1, 1))
    with pytest.raises(DataError, match="holds no lists"):
        FeatureEncoder({"zone": "categories"}).fit(TABLE)


def some_rows(seed):
    random = np.random.default_rng(seed)
    return [
        (f"u{u}", f"i{i}", None if v == 0 else float(v))
        for u, i, v in zip(
            random.integers(0, 5, 80), random.integers(0, 12, 80), random.integers(0, 6, 80), strict=True
        )
    ]


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_overlap_is_counted_pair_by_pair(seed):
    rows = some_rows(seed)
    frame = pl.DataFrame(rows, schema=["user", "item", "value"], orient="row")
    for pair in overlap.pairs(frame, ["u0", "u1", "u2"]):
        common, union, correlation, gap = naive.overlap(rows, pair["user"], pair["other"])
        assert (pair["common"], pair["items"], pair["jaccard"]) == (common, union, common / union)
        assert pair["correlation"] == (None if correlation is None else pytest.approx(correlation))
        assert pair["gap"] == (None if gap is None else pytest.approx(gap))


def test_two_common_values_say_nothing_of_a_correlation():
    frame = pl.DataFrame({"user": ["a", "a", "b", "b"], "item": ["x", "y"] * 2, "value": [1.0, 5.0, 2.0, 4.0]})
    [pair] = overlap.pairs(frame, ["a", "b"])
    assert (pair["correlation"], pair["gap"]) == (None, 1.0)


@pytest.mark.parametrize("by_hash", [True, False])
def test_what_goes_together_shares_users(by_hash):
    rows = [(u, i) for u, i, _ in some_rows(4)]
    # a pair that meets often is one pair still
    frame = pl.DataFrame(rows + [rows[0]] * 300, schema=["user", "item"], orient="row")
    met = MetItems.of(frame.lazy(), frame["user"].unique(), frame["item"].unique(), by_hash=by_hash)
    actual = met.together("i3", 50)
    expected = naive.together(rows, "i3")
    assert met.together("i3", 4) == actual[:4]
    assert met.together("unheard of", 4) == []
    assert {each["item"]: each["shared"] for each in actual} == {item: shared for item, (shared, _) in expected.items()}
    assert {each["item"]: each["lift"] for each in actual} == pytest.approx(
        {i: lift for i, (_, lift) in expected.items()}
    )
    order = [(-each["shared"], each["item"]) for each in actual]
    assert order == sorted(order)


def test_drift_is_half_of_what_moved():
    one = pl.DataFrame({"id": ["a", "b", "c"], "rows": [5, 3, 2]})
    two = pl.DataFrame({"id": ["a", "b", "d"], "rows": [10, 2, 8]})
    actual = compare(one, two)
    assert (actual["new"], actual["gone"]) == (1, 1)
    assert actual["drift"] == pytest.approx((0 + 0.2 + 0.2 + 0.4) / 2)
    assert {each["name"] for each in actual["movers"]} == {"b", "c", "d"}
    assert actual["rank_correlation"] is None
    assert compare(one, one)["drift"] == 0
    more = pl.DataFrame({"id": ["a", "b", "c"], "rows": [1, 2, 9]})
    assert math.isclose(compare(one, more)["rank_correlation"], -1.0)
    drift, values = shares({"1": 1.0, "2": 1.0}, {"2": 1.0, "10": 3.0})
    assert drift == pytest.approx((0.5 + 0.25 + 0.75) / 2)
    assert [each["name"] for each in values] == ["1", "2", "10"]


def bucket(text: str) -> int:
    """Of 256, by the first eight bytes of BLAKE2."""
    return int.from_bytes(hashlib.blake2b(text.encode(), digest_size=8).digest(), "big") % 256


def test_values_that_are_too_many_share_features_by_a_hash():
    frequent, rare = [f"often-{n}" for n in range(1000)], [f"once-{n}" for n in range(2000)]
    cells = pl.Series("place", frequent * 2 + rare)
    encoder = FeatureEncoder({"place": "category"}).fit(cells.to_frame())
    given = pl.DataFrame({"place": ["often-7", "once-1999", "never met", None]})
    encoded = encoder.encode(given)
    assert encoded.matrix.shape == (4, 1256)
    hot = [encoded.names[encoded.matrix[[row]].indices[0]] for row in range(4)]
    expected = ["place=often-7"] + [
        f"place (hashed {bucket(text)})" for text in ("once-1999", "never met", "(missing)")
    ]
    assert hot == expected
    tags = FeatureEncoder({"tags": "categories"}).fit(pl.DataFrame({"tags": [[each] for each in cells]}))
    same = [each for each in rare if bucket(each) == bucket("once-0")][:3]
    row = tags.encode(pl.DataFrame({"tags": [["often-1", *same]]}))
    assert {row.names[at]: value for at, value in zip(row.matrix.indices, row.matrix.data, strict=True)} == {
        "tags:often-1": 1.0,
        f"tags (hashed {bucket('once-0')})": 1.0,
    }
    few = FeatureEncoder({"place": "category"}).fit(pl.DataFrame({"place": frequent}))
    assert few.encode(given).matrix.shape == (4, 1000)


def test_the_context_is_hashed_alike_and_kept_with_the_model():
    frequent, rare = [f"often-{n}" for n in range(1000)], [f"once-{n}" for n in range(2000)]
    encoder = ContextEncoder.fit(pl.DataFrame({"place": frequent * 2 + rare}), ["place"])
    assert encoder.n_features == [2 + 1000 + 256]
    again = ContextEncoder.from_json(encoder.to_json())
    frame = pl.DataFrame({"place": ["once-5", "never met", None]})
    codes = again.codes(frame, 3)[0].tolist()
    assert codes == [1002 + bucket("once-5"), 1002 + bucket("never met"), 0]
    # what was kept before there was hashing says nothing of it
    [column] = json.loads(encoder.to_json())
    del column["hashed"]
    old = ContextEncoder.from_json(json.dumps([column]).encode())
    assert old.codes(frame, 3)[0].tolist() == [1, 1, 0]
