"""Conditions against plain Python, and what they refuse."""

from __future__ import annotations

import re
from datetime import UTC, date, datetime

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from gleaner.core.errors import InputError
from gleaner.core.ranking.conditions import compile_condition

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
        ("stok > 0", "character 1: there is no column 'stok'; there are: name, stock, price"),
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
        ("length(name) > 3", "character 1: there is no column 'length'"),
        ("stock > (SELECT 1)", "expected a column or a literal, found '\\('"),
        ("name = 'open", 'character 8: "\'" is not part of a condition'),
        ("(" * 100 + "surplus" + ")" * 100, "nested more than 60 deep"),
        ("NOT " * 900 + "surplus AND stock > " + "1" * 500, "longer than 4000 characters"),
    ],
)
def test_what_is_outside_the_language_is_refused_with_its_place(text, message):
    with pytest.raises(InputError, match=message):
        compile_condition(text, dict(TABLE.schema))


@given(st.text(alphabet="stock price surplus name()<>='%_,-0123.ANDORNOTINLIKEBETWEEN\"; \n", max_size=60))
def test_any_text_gives_a_mask_or_a_clear_refusal(text):
    told = ""
    try:
        found = compile_condition(text, dict(TABLE.schema))
    except InputError as error:
        told = error.message
    if told:
        assert re.match(r"character \d+: |the condition is nested", told)
    else:
        assert TABLE.select(found.alias("mask"))["mask"].null_count() == 0
