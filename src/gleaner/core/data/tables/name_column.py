"""Which column of an item or user table holds what people call each row."""

from __future__ import annotations

import polars as pl

from gleaner.core.data.tables.column_types import guess_type

STORED_AS = ("name", "title", "label")
"""Columns that are taken for the name without being declared, the first there is."""
WORDS = {
    *STORED_AS, "titel", "bezeichnung", "nom", "titre", "nombre", "titulo", "nome", "titolo", "naam", "namn", "navn",
    "nimi", "nazwa", "caption", "heading",
}  # fmt: skip
"""Names of such columns, in several languages."""
NEARLY_UNIQUE = 0.8
"""Share of different texts among the filled cells; some rows share a name."""
LONGEST, MOST_WORDS = 80, 10
"""Mean letters and words of a name; what is longer describes rather than names."""


def guess_name_column(table: pl.DataFrame, id_column: str) -> tuple[str, str] | None:
    """Return the column of names and the reason, or None if no column looks like names.

    A column called so comes first, then the first whose cells are short, nearly unique texts.
    """
    texts = [name for name in table.columns if name != id_column and table[name].dtype == pl.String]
    called = {name: _plain(name) for name in texts if _has_words(table[name])}
    for word in STORED_AS:
        if word in called:
            return word, "by its name"
    for name, plain in called.items():
        if plain in WORDS or any(part in WORDS for part in plain.split("_")):
            return name, "by its name"
    for name in called:
        if _is_nearly_unique(table[name]):
            return name, "short texts, nearly all different"
    return None


def _plain(name: str) -> str:
    return name.strip().lower().replace(" ", "_").replace("-", "_")


def _has_words(cells: pl.Series) -> bool:
    """Return whether the cells are short texts with letters, and not links, mail addresses or numbers."""
    filled = cells.replace("", None).drop_nulls()
    if not len(filled) or guess_type(filled).kind not in ("text", "category"):
        return False
    length, words = filled.str.len_chars().mean(), filled.str.count_matches(r"\S+").mean()
    is_short = float(length or 0) <= LONGEST and float(words or 0) <= MOST_WORDS  # type: ignore[arg-type]
    has_letters = float(filled.str.contains(r"\p{L}{2}").mean() or 0) >= NEARLY_UNIQUE  # type: ignore[arg-type]
    return is_short and has_letters and not bool(filled.str.contains("@", literal=True).any())


def _is_nearly_unique(cells: pl.Series) -> bool:
    filled = cells.replace("", None).drop_nulls()
    return len(filled) >= len(cells) / 2 and filled.n_unique() >= NEARLY_UNIQUE * len(filled)
