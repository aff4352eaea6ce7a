"""What a notebook shows of a result: tables as HTML, with every text escaped."""

from __future__ import annotations

from html import escape
from typing import Any

import polars as pl


def html_table(frame: pl.DataFrame, places: int = 4) -> str:
    """A table; numbers stand to the right, with so many places after the point."""
    numeric = [dtype.is_numeric() for dtype in frame.dtypes]
    head = "".join(_cell("th", name, right) for name, right in zip(frame.columns, numeric, strict=True))
    rows = [
        "".join(_cell("td", _as_text(value, places), right) for value, right in zip(row, numeric, strict=True))
        for row in frame.iter_rows()
    ]
    body = "".join(f"<tr>{row}</tr>" for row in rows)
    return f"<table><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table>"


def html_lines(lines: list[str]) -> str:
    """Sentences, a paragraph each."""
    return "".join(f"<p>{escape(line)}</p>" for line in lines)


def _cell(tag: str, text: str, right: bool) -> str:
    style = ' style="text-align: right"' if right else ' style="text-align: left"'
    return f"<{tag}{style}>{escape(text)}</{tag}>"


def _as_text(value: Any, places: int) -> str:
    if value is None:
        return ""
    if isinstance(value, float):
        return f"{value:,.{places}f}"
    return f"{value:,}" if isinstance(value, int) and not isinstance(value, bool) else str(value)
