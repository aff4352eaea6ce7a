"""The column with what people call each row, found from its name or its cells."""

from __future__ import annotations

import polars as pl
import pytest

from gleaner.core.data.tables.name_column import guess_name_column

SKU = [f"s{n}" for n in range(20)]
UNIQUE = [f"Salt {word} number {n}" for n, word in enumerate(["bean", "pea"] * 10)]
FAMILY = ["legume", "grass", "herb", "root"] * 5
LONG = [f"{text}, which was collected a long time ago by somebody near the sea in a dry year" for text in UNIQUE]


@pytest.mark.parametrize(
    ("columns", "expected"),
    [
        ({"titel": UNIQUE}, "titel"),
        ({"family": FAMILY, "sorte": UNIQUE}, "sorte"),
        ({"sorte": UNIQUE, "name": FAMILY}, "name"),
        ({"Product Title": FAMILY}, "Product Title"),
        ({"family": FAMILY}, None),
        ({"note": LONG}, None),
        ({"mail": [f"{sku}@example.org" for sku in SKU]}, None),
        ({"page": [f"https://a.example/{sku}" for sku in SKU]}, None),
        ({"titel": [str(n) for n in range(20)]}, None),
        ({"titel": [""] * 20}, None),
        ({"sorte": [*UNIQUE[:8], *[""] * 12]}, None),
        ({"titel": [*UNIQUE[:18], "", UNIQUE[0]]}, "titel"),
    ],
)
def test_the_column_of_names_is_found(columns, expected):
    guess = guess_name_column(pl.DataFrame({"sku": SKU} | columns), "sku")
    assert (None if guess is None else guess[0]) == expected


def test_a_table_without_rows_or_columns_has_no_names():
    assert guess_name_column(pl.DataFrame({"sku": []}, schema={"sku": pl.String}), "sku") is None
    assert (
        guess_name_column(pl.DataFrame({"sku": [], "titel": []}, schema_overrides={"titel": pl.String}), "sku") is None
    )
