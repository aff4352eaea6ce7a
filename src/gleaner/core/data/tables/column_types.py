"""What a column of an item or user table holds: proposed from its cells, and read as such."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any, Literal

import polars as pl

ColumnKind = Literal["category", "categories", "number", "flag", "date", "text", "link", "picture", "ignored"]
SEPARATORS = ("|", ";", ",")
FLAGS = {"true": True, "false": False}
WORDS_OF_TEXT = 4
LETTERS_OF_TEXT = 40
MOST_CATEGORIES = 1000
CLEAN = 0.95
"""Share of the filled cells that must be numbers, or dates: real files have a few cells that are not."""
PICTURE = r"(?i)\.(png|jpe?g|gif|webp|svg|avif)(\?.*)?$"


@dataclass(frozen=True)
class TypeGuess:
    """A type, the separator of `categories`, and the reason in words."""

    kind: ColumnKind
    separator: str | None
    reason: str


def guess_type(cells: pl.Series) -> TypeGuess:
    """Propose the narrowest type that the filled cells fit.

    Numbers and dates allow for a few cells that do not fit (at most 1 in 20). A number with a leading zero is a code,
    not a number.
    """
    typed = _typed_guess(cells.dtype)
    if typed:
        return typed
    filled = _filled(cells).drop_nulls()
    n = len(filled)
    if n == 0:
        return TypeGuess("text", None, "no cell is filled")
    if filled.is_in(list(FLAGS)).all():
        return TypeGuess("flag", None, "every cell is true or false")
    numbers = filled.str.strip_chars().cast(pl.Float64, strict=False)
    misfits = n - int(numbers.is_finite().fill_null(False).sum())
    has_codes = bool(filled.str.contains(r"^[+-]?0\d").any())
    if misfits <= (1 - CLEAN) * n and not has_codes:
        return TypeGuess("number", None, _nearly_every("number", misfits, n))
    if misfits == 0:
        return TypeGuess("category", None, "digits with leading zeros are a code, not a number")
    misfits = filled.str.strip_chars().str.to_date("%Y-%m-%d", strict=False).null_count()
    if misfits <= (1 - CLEAN) * n:
        return TypeGuess("date", None, _nearly_every("date", misfits, n))
    if filled.str.contains(r"^https?://\S+$").all():
        picture = bool(filled.str.contains(PICTURE).all())
        return TypeGuess("picture" if picture else "link", None, "every cell is a web address")
    separator = _separator(filled)
    if separator:
        return TypeGuess("categories", separator, f"cells hold several, cut by {separator!r}, that come again")
    distinct = filled.n_unique()
    words = filled.str.count_matches(r"\S+").mean()
    letters = filled.str.len_chars().mean()
    long = float(words or 0) >= WORDS_OF_TEXT or float(letters or 0) >= LETTERS_OF_TEXT  # type: ignore[arg-type]
    if not long and distinct <= MOST_CATEGORIES and distinct * 2 <= n:
        return TypeGuess("category", None, f"{distinct:,} texts that come again and again")
    return TypeGuess("text", None, "free text" if long else f"{distinct:,} different texts in {n:,} cells")


def _nearly_every(kind: str, misfits: int, n: int) -> str:
    if not misfits:
        return f"every cell is a {kind}"
    return f"{n - misfits:,} of {n:,} cells are {kind}s; the others would be missing"


def kind_of(dtype: Any) -> ColumnKind:
    """What a column that is stored as this type holds."""
    guess = _typed_guess(dtype)
    return guess.kind if guess else "text"


def _typed_guess(dtype: Any) -> TypeGuess | None:
    if dtype.is_numeric():
        return TypeGuess("number", None, "the file says it is a number")
    if dtype.base_type() in (pl.Date, pl.Datetime):
        return TypeGuess("date", None, "the file says it is a date")
    if dtype == pl.Boolean:
        return TypeGuess("flag", None, "the file says it is true or false")
    if dtype.base_type() in (pl.List, pl.Array):
        return TypeGuess("categories", None, "the file says it is a list")
    return None


def _filled(cells: pl.Series) -> pl.Series:
    if cells.dtype.base_type() in (pl.List, pl.Array):
        cells = cells.cast(pl.List(pl.String)).list.join("|")
    return cells.cast(pl.String).replace("", None)


def _separator(filled: pl.Series) -> str | None:
    for separator in SEPARATORS:
        several = filled.str.contains(separator, literal=True)
        if float(several.mean() or 0) < 0.2:  # type: ignore[arg-type]
            continue
        tokens = filled.str.split(separator).explode().str.strip_chars()
        short = float(tokens.str.count_matches(r"\S+").mean() or 0) < WORDS_OF_TEXT - 1  # type: ignore[arg-type]
        if short and tokens.n_unique() * 2 <= len(tokens):
            return separator
    return None


@dataclass(frozen=True, eq=False)
class ReadColumn:
    """A column as its type. wrong: a mask of the cells that do not fit, and the sentence about them."""

    cells: pl.Series
    wrong: pl.Series | None = None
    problem: str = ""


def read_as(cells: pl.Series, kind: ColumnKind, separator: str | None = None) -> ReadColumn:
    """Cells as numbers (Int64 where all are whole), flags, dates, lists or texts; an empty cell is null."""
    if kind == "categories":
        return ReadColumn(_lists(cells, separator or "|"))
    if kind == "number":
        return _numbers(cells)
    if kind == "flag":
        return _flags(cells)
    if kind == "date":
        return _dates(cells)
    return ReadColumn(_filled(cells).alias(cells.name))


def _lists(cells: pl.Series, separator: str) -> pl.Series:
    if cells.dtype.base_type() in (pl.List, pl.Array):
        return cells.cast(pl.List(pl.String))
    lists = _filled(cells).str.split(separator)
    # entries are stripped, and one that is empty ("a||b") is none
    return lists.list.eval(pl.element().str.strip_chars().replace("", None).drop_nulls()).alias(cells.name)


def _wrong(cells: pl.Series, read: pl.Series) -> pl.Series | None:
    wrong = read.is_null() & _filled(cells).is_not_null()
    return wrong if wrong.any() else None


def _numbers(cells: pl.Series) -> ReadColumn:
    if cells.dtype.is_numeric():
        numbers = cells.cast(pl.Float64).fill_nan(None)
        whole = cells.dtype.is_integer()
    else:
        numbers = _filled(cells).str.strip_chars().cast(pl.Float64, strict=False)
        numbers = numbers.zip_with(
            numbers.is_finite().fill_null(False), pl.Series([None] * len(cells), dtype=pl.Float64)
        )
        whole = not _filled(cells).str.contains(r"[.eE]").any()
    wrong = None if cells.dtype.is_numeric() else _wrong(cells, numbers)
    if whole and wrong is None:
        source = cells if cells.dtype.is_numeric() else _filled(cells).str.strip_chars()
        integers = source.cast(pl.Int64, strict=False)
        numbers = integers if integers.null_count() == numbers.null_count() else numbers
    return ReadColumn(numbers.alias(cells.name), wrong, "is not a number")


def _flags(cells: pl.Series) -> ReadColumn:
    if cells.dtype == pl.Boolean:
        return ReadColumn(cells)
    more = FLAGS | {"yes": True, "no": False, "1": True, "0": False, "t": True, "f": False, "y": True, "n": False}
    texts = _filled(cells).str.strip_chars().str.to_lowercase()
    flags = texts.replace_strict(more, default=None, return_dtype=pl.Boolean)
    return ReadColumn(flags.alias(cells.name), _wrong(cells, flags), "is not true or false")


def _dates(cells: pl.Series) -> ReadColumn:
    if cells.dtype == pl.Date:
        return ReadColumn(cells)
    if cells.dtype.base_type() == pl.Datetime:
        days = cells.dt.date()
        return ReadColumn(days if (cells.dt.truncate("1d") == cells).fill_null(True).all() else cells)
    dates = _filled(cells).str.strip_chars().str.slice(0, 10).str.to_date("%Y-%m-%d", strict=False)
    return ReadColumn(dates.alias(cells.name), _wrong(cells, dates), "is not a date such as 2026-03-01")


def pattern_groups(pattern: str) -> int:
    """Number of groups of a regular expression. Raises ValueError when it is none."""
    try:
        return re.compile(pattern).groups
    except re.error as error:
        raise ValueError(f"{pattern!r} is no regular expression: {error}") from error
