"""Cells of a CSV file that spreadsheets would run: written so that they are shown instead."""

from __future__ import annotations

import polars as pl

RUN = r"^[=+\-@\t\r]"
"""What a spreadsheet takes for a formula by its first character."""

NUMBER = r"^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$"


def shown_cells(frame: pl.DataFrame) -> tuple[pl.DataFrame, int]:
    """The frame with an apostrophe before every text that a spreadsheet would run, headings too, and how many there
    are. Texts that are plain numbers stay as they are."""
    renamed = {name: f"'{name}" for name in frame.columns if pl.Series([name]).str.contains(RUN).item()}
    texts = [name for name, kind in frame.schema.items() if kind == pl.String]
    runs = {name: frame[name].str.contains(RUN) & ~frame[name].str.contains(NUMBER) for name in texts}
    changed = {name: int(mask.sum()) for name, mask in runs.items() if mask.any()}
    shown = frame.with_columns(
        pl.when(runs[name]).then(pl.lit("'") + pl.col(name)).otherwise(pl.col(name)).alias(name) for name in changed
    )
    return shown.rename(renamed), sum(changed.values()) + len(renamed)
