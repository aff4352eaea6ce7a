"""Cells that a spreadsheet would run are shown instead; numbers and everything else stay."""

from __future__ import annotations

import polars as pl

from gleaner.core.data.tables.csv_cells import shown_cells


def test_only_what_would_be_run_gets_an_apostrophe():
    cells = ["=1+1", "+cmd", "-2", "-2.5e3", "-x", "@sum", "\tx", "a=b", "", None, "007", "+4", "+"]
    shown, changed = shown_cells(pl.DataFrame({"=name": cells, "number": range(-6, 7)}))
    assert shown["'=name"].to_list() == [
        "'=1+1", "'+cmd", "-2", "-2.5e3", "'-x", "'@sum", "'\tx", "a=b", "", None, "007", "+4", "'+",
    ]  # fmt: skip
    assert shown["number"].to_list() == list(range(-6, 7))
    assert changed == 7
    plain = pl.DataFrame({"name": ["a", "b"]})
    assert shown_cells(plain)[0].equals(plain)
