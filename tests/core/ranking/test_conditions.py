"""Conditions against plain Python, and the mistakes in them that are refused."""

from __future__ import annotations

import itertools
import re
from datetime import UTC, date, datetime

import numpy as np
import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from gleaner.core.errors import InputError
from gleaner.core.ranking.conditions.condition import Condition, Masks, compile_condition
from gleaner.core.ranking.conditions.operands import Schema
from gleaner.core.ranking.conditions.tokens import written
from gleaner.core.ranking.conditions.tree import Budget
from gleaner.core.ranking.conditions.values import Bindings

TABLE = pl.DataFrame(
    {
        "name": ["a", "b'c", "A", None, "100%"],
        "stock": [0, 5, None, 7, 7],
        "price": [1.5, None, 2.0, -3.0, 0.0],
        "surplus": [True, False, None, True, False],
        "since": [date(2026, 1, 1), date(2026, 3, 1), None, date(2025, 12, 31), date(2026, 2, 2)],
        "odd name": ["x", "y", "z", "x", "y"],
        "parts": [["x", "w"], [], ["y"], None, ["x"]],
        "at": [datetime(2026, 1, 1, 12, tzinfo=UTC), None, *[datetime(2026, 3, n, tzinfo=UTC) for n in (1, 2, 3)]],
        "blob": [b"", b"", b"", b"", b""],
    }
)


def rows(text: str) -> list[int]:
    return TABLE.with_row_index().filter(compile_condition(text, dict(TABLE.schema)))["index"].to_list()


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("stock > 0", [1, 3, 4]),
        ("stock<=5", [0, 1]),
        ("0 < stock", [1, 3, 4]),
        ("stock <> 7", [0, 1]),
        ("stock != 7 OR surplus", [0, 1, 3]),
        ("NOT stock = 7", [0, 1]),
        ("not not stock = 7", [3, 4]),
        ("stock IS NULL", [2]),
        ("stock is not null and price is null", [1]),
        ("price = -3", [3]),
        ("price >= -3e0 AND price < .5e1" .replace(".5e1", "5e-1"), [3, 4]),
        ("name = 'b''c'", [1]),
        ("name IN ('a', 'A')", [0, 2]),
        ("name NOT IN ('a', 'A')", [1, 4]),
        ("stock BETWEEN 5 AND 7", [1, 3, 4]),
        ("stock NOT BETWEEN 1 AND 6", [0, 3, 4]),
        ("name LIKE '_'", [0, 2]),
        ("name LIKE '1%'", [4]),
        ("name LIKE '%''%'", [1]),
        ("name NOT LIKE '%a%'", [1, 2, 4]),
        ("since >= DATE '2026-02-01'", [1, 4]),
        ("since BETWEEN date '2026-01-01' AND date '2026-02-28'", [0, 4]),
        ("surplus", [0, 3]),
        ("'x' IN parts", [0, 4]),
        ("'x' NOT IN parts", [1, 2]),
        ("'y' IN parts OR 'w' IN parts", [0, 2]),
        ("parts IS NULL", [3]),
        ("at > DATE '2026-01-01'", [0, 2, 3, 4]),
        ("DATE '2026-03-02' <= at", [3, 4]),
        ("at = TIMESTAMP '2026-01-01 13:00:00+01:00'", [0]),
        ("at BETWEEN DATE '2026-03-01' AND TIMESTAMP '2026-03-02 00:00:00'", [2, 3]),
        ("at IN (TIMESTAMP '2026-03-01', DATE '2026-03-03')", [2, 4]),
        ("surplus = FALSE", [1, 4]),
        ('"odd name" = \'x\'', [0, 3]),
        ("stock = 0 OR stock = 5 AND surplus", [0]),
        ("(stock = 0 OR stock = 5) AND NOT surplus", [1]),
        ("price < stock", [3, 4]),
    ],
)  # fmt: skip
def test_conditions_mean_what_sql_says(text, expected):
    assert rows(text) == expected


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("", "character 1: expected a column or a literal, found the end"),
        ("stock >", "character 8: expected a column or a literal, found the end"),
        ("stok > 0", "character 1: there is no column 'stok'; did you mean 'stock'?"),
        ("stock > 'many'", r"character 9: stock \(number\) cannot be compared with a text"),
        ("name = since", r"character 8: name \(text\) cannot be compared with since \(date\)"),
        ("stock", "expected a comparison after stock, which is no flag"),
        ("stock > 0 stock", "character 11: expected the end of the condition, AND or OR, found 'stock'"),
        ("(stock > 0", r"character 11: expected \), found the end"),
        ("stock IN ()", "expected a column or a literal"),
        ("stock IN (price)", "character 11: expected a literal, found column 'price'"),
        ("stock LIKE '7'", "expected a text pattern for a text column"),
        ("since > DATE 'soon'", "expected a date such as"),
        ("1 IS NULL", "only a column can be tested so"),
        ("parts = 'x'", "column 'parts' holds lists; write 'text' IN parts"),
        ("'x' IN name", r"character 8: expected a column of lists, .* name holds no lists"),
        ("blob IS NULL", "column 'blob' cannot be used in a condition"),
        ("stock > 0; DROP TABLE items", "character 10: ';' is not part of a condition"),
        ("length(name) > 3", "character 1: there is no function 'length'; there are: now, and history"),
        ("stock > (SELECT 1)", "expected a column or a literal, found '\\('"),
        ("name = 'open", 'character 8: "\'" is not part of a condition'),
        ("(" * 100 + "surplus" + ")" * 100, "nested more than 60 deep"),
        ("stock" + "+1" * 60 + " > 0", "character 104: a sum has more than 50 terms"),
        ("NOT " * 900 + "surplus AND stock > " + "1" * 500, "longer than 4000 characters"),
    ],
)
def test_what_is_outside_the_language_is_refused_with_its_place(text, message):
    with pytest.raises(InputError, match=message):
        compile_condition(text, dict(TABLE.schema))


USERS = {"id": pl.String, "zone": pl.String, "years": pl.Int64, "likes": pl.List(pl.String), "member": pl.Boolean}
KINDS = ["view", "request"]
NOW = datetime(2026, 3, 2, 10, 30, tzinfo=UTC)
HISTORY = {("view", None): [0, 1, 4], ("view", 30): [1], ("request", None): [3], (None, None): [0, 1, 3, 4]}


def matching_rows(text: str, user: dict | None = None, context: dict | None = None) -> list[int]:
    def history(kind, within):
        return np.array(HISTORY[kind, within and within.days], dtype=np.int32)

    condition = Condition(text, Schema(dict(TABLE.schema), USERS, KINDS))
    masks = Masks(condition, TABLE)
    bindings = Bindings(user or {}, context or {}, NOW, history)
    first, again = masks.allowed(bindings), masks.allowed(bindings)
    np.testing.assert_array_equal(first, again)
    return np.flatnonzero(first).tolist()


ME = {"zone": "x", "years": 6, "likes": ["y", "w"], "member": True}


@pytest.mark.parametrize(
    ("text", "context", "expected"),
    [
        ('"odd name" = :user.zone', {}, [0, 3]),
        ("stock > :user.years AND surplus", {}, [3]),
        ("stock + 1 > :user.years + 1", {}, [3, 4]),
        ("stock - 6 >= :user.years - 5", {}, [3, 4]),
        ('"odd name" IN :user.likes', {}, [1, 4]),
        ('"odd name" NOT IN :user.likes', {}, [0, 2, 3]),
        ("'y' IN :user.likes AND stock = 0", {}, [0]),
        (":user.zone IN parts", {}, [0, 4]),
        (":user.member AND surplus", {}, [0, 3]),
        (":user.zone LIKE 'z%'", {}, []),
        ("stock <= :context.most", {"most": 5}, [0, 1]),
        ("stock <= :context.most", {}, []),
        ("stock <= :context.most OR :context.most IS NULL", {}, [0, 1, 2, 3, 4]),
        (":context.all OR stock = 5", {"all": True}, [0, 1, 2, 3, 4]),
        (":context.all OR stock = 5", {"all": False}, [1]),
        ("name IN (:context.one, 'A')", {"one": "a"}, [0, 2]),
        ("name IN :context.some", {"some": ["a", "100%"]}, [0, 4]),
        ("since BETWEEN :context.low AND DATE '2026-02-28'", {"low": "2026-01-02"}, [4]),
        ("since > now() - INTERVAL '30' DAY", {}, [1, 4]),
        ("at >= now() - INTERVAL '35' HOURS", {}, [2, 3, 4]),
        ("since + INTERVAL '4' WEEKS < DATE '2026-01-29'", {}, [3]),
        ("item IN history('view')", {}, [0, 1, 4]),
        ("item NOT IN history('view')", {}, [2, 3]),
        ("item NOT IN history('view', INTERVAL '30' DAY) AND stock >= 0", {}, [0, 3, 4]),
        ("item NOT IN history()", {}, [2]),
        ("NOT item IN history('request') AND stock = 7", {}, [4]),
        ("stock = 5 OR item IN history('request')", {}, [1, 3]),
        ("(item IN history('view') OR stock = 7) AND surplus", {}, [0, 3]),
    ],
)  # fmt: skip
def test_conditions_on_who_asks(text, context, expected):
    assert matching_rows(text, ME, context) == expected


def test_someone_nothing_is_known_of_fits_no_comparison():
    for text in (
        '"odd name" = :user.zone',
        '"odd name" IN :user.likes',
        '"odd name" NOT IN :user.likes',
        ":user.member",
    ):
        assert matching_rows(text) == []
    assert matching_rows(":user.likes IS NULL AND stock = 5") == [1]


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("stock > :user.age", "character 9: there is no user column 'age'; there are: zone, years, likes, member"),
        ("stock > :user.zone", r"character 9: stock \(number\) cannot be compared with :user.zone \(text\)"),
        ("stock > :shop.size", "character 9: ':shop.size' is neither :user.COLUMN nor :context.NAME"),
        (":context.a = :context.b", "character 14: the kind of :context.b is not known here"),
        ("stock > :context.a OR name = :context.a", "character 30: :context.a is a number before, and a text here"),
        ("stock > :context.a AND name = :context.a", ":context.a is a number in one place and a text in another"),
        ("item IN history('sold')", "character 17: there is no kind 'sold' of interactions; there are: view, request"),
        ("item IN history('view', 30)", "character 25: expected INTERVAL, found '30'"),
        ("since > now() - INTERVAL '3' YEARS", "expected one of MINUTE, HOUR, DAY, WEEK"),
        ("since > now() - INTERVAL 3 DAY", "expected a whole number in quotes"),
        ("stock + INTERVAL '3' DAY > 1", "character 7: an interval is added to a date or a time, and this is a number"),
        ("name + 1 = 'a'", "only numbers can be added; these are a text and a number"),
        ("upper(name) = 'A'", "there is no function 'upper'; there are: now, and history after `item IN`"),
        ("stock IN :user.likes", "lists hold texts, and stock is a number"),
        ("now(1) > since", r"expected \), found '1'"),
    ],
)
def test_what_a_request_cannot_bring_is_refused_with_its_place(text, message):
    with pytest.raises(InputError, match=message):
        Condition(text, Schema(dict(TABLE.schema), USERS, KINDS))


@pytest.mark.parametrize(
    ("text", "value", "message"),
    [
        ("stock > :context.x", "many", "context 'x' must be a number, not 'many'"),
        ("name = :context.x", 3, "context 'x' must be a text, not 3"),
        ("since > :context.x", "soon", "context 'x' must be a date, not 'soon'"),
        ("name IN :context.x", [1], r"context 'x' must be a list of texts, not \[1\]"),
        (":context.x", 1, "context 'x' must be a flag, not 1"),
    ],
)
def test_a_value_that_does_not_fit_is_named(text, value, message):
    with pytest.raises(InputError, match=message) as output:
        matching_rows(text, ME, {"x": value})
    assert output.value.where == "context.x"


def test_where_nobody_is_served_nobody_can_be_named():
    for text in ("stock > :user.years", "stock > :context.x", "item IN history()"):
        with pytest.raises(InputError, match="of the person a shelf serves; here a condition is about items alone"):
            compile_condition(text, dict(TABLE.schema))


def test_a_column_that_begins_like_the_item_is_no_test_of_the_history():
    table = pl.DataFrame({"item_old": [True, False, False, None]})
    condition = Condition("item_old OR item IN history('view')", Schema(dict(table.schema), USERS, KINDS))
    bindings = Bindings(history=lambda kind, within: np.array([1], dtype=np.int32))
    assert Masks(condition, table).allowed(bindings).tolist() == [True, True, False, False]


def test_what_does_not_depend_on_the_request_is_worked_out_once(monkeypatch):
    worked, mask = [], Condition.mask
    monkeypatch.setattr(
        Condition, "mask", lambda self, part, *more: worked.append(part.text) or mask(self, part, *more)
    )
    text = "stock > 0 AND surplus AND price < :context.most AND item NOT IN history('view')"
    masks = Masks(Condition(text, Schema(dict(TABLE.schema), USERS, KINDS)), TABLE)
    assert worked == ["stock > 0", "surplus"]
    history = lambda kind, within: np.array([0], dtype=np.int32)  # noqa: E731
    actual = [masks.allowed(Bindings(context={"most": most}, history=history)).tolist() for most in (3, 3, 4, 3)]
    assert worked[2:] == ["price < :context.most"] * 2
    assert actual[0] == actual[1] == actual[3]


@given(
    st.text(alphabet="stock price surplus name()+:.userhistorynow<>='%_,-0123.ANDORNOTINLIKEBETWEEN\"; \n", max_size=60)
)
def test_any_text_gives_a_mask_or_a_clear_refusal(text):
    output = ""
    try:
        actual = compile_condition(text, dict(TABLE.schema))
    except InputError as error:
        output = error.message
    if output:
        assert re.match(r"character \d+: |the condition is nested", output)
    else:
        assert TABLE.select(actual.alias("mask"))["mask"].null_count() == 0


@given(
    st.text(min_size=1, max_size=8) | st.sampled_from(["select", "Not", "in", "a b", 'say "x"', "a_1", "1a", "grün"])
)
def test_any_name_of_a_column_can_be_written(name):
    table = pl.DataFrame({name: [1.0, None]})
    assert table.filter(compile_condition(f"{written(name)} = 1", dict(table.schema))).height == 1


def test_a_plain_name_is_written_as_it_is():
    assert [written(name) for name in ("stock", "Not", "a b")] == ["stock", '"Not"', '"a b"']


def test_a_condition_ends_with_its_time():
    table = pl.DataFrame({"stock": range(10_000)})
    now = [0.0]

    def clock() -> float:
        # every look at the clock is a millisecond after the one before
        now[0] += 0.001
        return now[0]

    condition = Condition(" OR ".join(["stock = 1"] * 90), Schema(dict(table.schema)))
    assert Masks(condition, table).fixed.sum() == 1
    with pytest.raises(InputError, match="takes longer than 50 ms, and was stopped"):
        Masks(condition, table, Budget(0.05, clock))
    # ninety tests of one slice would have taken three looks each
    assert now[0] < 0.1


def test_a_time_is_over_when_it_is_over_by_every_clock():
    walls, processors = [0.0], [0.0]
    budget = Budget(0.05, lambda: walls[0], lambda: processors[0])
    walls[0] = 0.2
    # the machine was busy with other work
    assert budget.left == pytest.approx(0.05)
    budget.require_time()
    processors[0] = 0.06
    with pytest.raises(InputError, match="takes longer than 50 ms"):
        budget.require_time()
    walls[0] = 0.01
    budget.require_time()


def test_slices_grow_while_tests_are_quick_and_give_the_same():
    table = pl.DataFrame({"stock": range(70_001)})
    condition = Condition("stock > 5 AND NOT stock IN (7, 70000)", Schema(dict(table.schema)))
    kept = np.flatnonzero(Masks(condition, table).fixed)
    assert kept.tolist() == [n for n in range(6, 70_000) if n != 7]
    slow = Masks(condition, table, Budget(1e6, itertools.count(0, 0.01).__next__)).fixed
    np.testing.assert_array_equal(np.flatnonzero(slow), kept)


@pytest.mark.parametrize("literals", ["'pea', 'bean'", "'pea', :context.family"])
def test_a_missing_cell_is_in_no_list_and_not_out_of_one(literals):
    table = pl.DataFrame({"family": ["pea", None, "kale"]})
    schema = Schema(dict(table.schema), users={})
    bindings = Bindings(context={"family": "bean"})
    for where, rows in ((f"family IN ({literals})", [0]), (f"family NOT IN ({literals})", [2])):
        masks = Masks(Condition(where, schema), table)
        assert np.flatnonzero(masks.allowed(bindings)).tolist() == rows
