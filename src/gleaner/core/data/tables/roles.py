"""Which column plays which role: proposed from names and first rows, always with the reason."""

from __future__ import annotations

import re
from dataclasses import dataclass

import polars as pl

from gleaner.core.data.tables.time_formats import EPOCH_UNITS, fitting_formats

NAMES = {
    "user": "user users userid uid member memberid customer customerid account visitor client person reader buyer "
    "grower patron subscriber key",
    "item": "item items itemid iid product productid article sku object entity track title variety document content "
    "list",
    "value": "value rating ratings score stars grade quantity qty amount count plays seconds duration points",
    "kind": "kind event eventtype type action interaction verb",
    "time": "time timestamp at date datetime when ts created createdat occurred occurredat",
}
TIME = r"^\d{4}-\d{2}-\d{2}([T ]\d{2}:\d{2}.*)?$|^1\d{9}(\d{3})?(\.\d+)?$"
MOST_KINDS = 30
CLEAN = 0.95
"""Share of the filled cells that must fit a role: real files have a few that do not."""


@dataclass(frozen=True)
class RoleGuess:
    """A role for a column, and why."""

    role: str
    column: str
    reason: str


def propose_roles(
    head: pl.DataFrame, item_ids: pl.Series | None = None, user_ids: pl.Series | None = None
) -> list[RoleGuess]:
    """One column for each role that some column fits, by name first, then by what the cells hold.

    head: the first rows. item_ids, user_ids: columns of the tables' first rows whose name a column may share, or whose
    ids it may hold.
    """
    texts = head.select(pl.all().cast(pl.String)) if head.width else head
    proposed: list[RoleGuess] = []
    left = list(texts.columns)

    def take(role: str, column: str, reason: str) -> None:
        proposed.append(RoleGuess(role, column, reason))
        left.remove(column)

    for role, ids in (("item", item_ids), ("user", user_ids)):
        column = None if ids is None else _sharing(texts, left, ids)
        if column and ids is not None:
            take(role, column, f"it holds ids of the {role} table ({ids.name})")
    for role in ("user", "item", "time", "value", "kind"):
        if any(guess.role == role for guess in proposed):
            continue
        column = next((name for name in left if _plain(name) in NAMES[role].split() and _fits(role, texts[name])), None)
        if column:
            take(role, column, "by its name" + _evidence(role, texts[column]))
    for role in ("time", "value", "kind"):
        if not any(guess.role == role for guess in proposed):
            column = next((name for name in left if _fits(role, texts[name]) and _speaks_for(role, texts[name])), None)
            if column:
                take(role, column, "by what it holds" + _evidence(role, texts[column]))
    for role in ("user", "item"):
        if left and not any(guess.role == role for guess in proposed):
            take(role, left[0], f"the first column that plays no other role; check it: {_distinct(texts[left[0]])}")
    return proposed


def _plain(name: str) -> str:
    return re.sub(r"[^a-z]", "", name.lower().rpartition(".")[2])


def _sharing(texts: pl.DataFrame, left: list[str], ids: pl.Series) -> str | None:
    ids_as_text = ids.cast(pl.String)
    shares = {name: float(texts[name].is_in(ids_as_text.implode()).mean() or 0) for name in left}  # type: ignore[arg-type]
    best = max(shares, key=lambda name: (shares[name], name == ids.name), default=None)
    return best if best and (shares[best] >= 0.5 or (best == ids.name and shares[best] > 0)) else None


def _fits(role: str, cells: pl.Series) -> bool:
    filled = cells.drop_nulls().filter(cells.drop_nulls() != "")
    if not len(filled):
        return role in ("value", "kind", "time")
    if role == "time":
        # a time written in another way fits by its name; it is read by a declared format
        return float(filled.str.contains(r"\d").mean() or 0) >= CLEAN  # type: ignore[arg-type]
    if role == "value":
        return float(_numbers(filled).is_not_null().mean() or 0) >= CLEAN  # type: ignore[arg-type]
    if role == "kind":
        return filled.n_unique() <= MOST_KINDS
    return True


def _speaks_for(role: str, cells: pl.Series) -> bool:
    """Whether the cells alone make a role likely, whatever the column is called."""
    filled = cells.drop_nulls().filter(cells.drop_nulls() != "")
    if not len(filled):
        return False
    if role == "time":
        if filled.str.contains(TIME).all():
            return True
        formats = [each for each in fitting_formats(filled) if each.form not in EPOCH_UNITS]
        return bool(formats) and formats[0].share >= CLEAN
    if role == "value":
        numbers = _numbers(filled).drop_nulls()
        return (
            len(numbers) >= CLEAN * len(filled)
            and numbers.n_unique() <= 20
            and bool((numbers.abs() <= 100).all())
            and len(filled) > 50
        )
    return filled.n_unique() <= 8 and not filled.str.contains(r"\d").any() and len(filled) > 50


def _evidence(role: str, cells: pl.Series) -> str:
    filled = cells.drop_nulls().filter(cells.drop_nulls() != "")
    if not len(filled):
        return "; no cell of the first rows is filled"
    if role == "value":
        numbers = _numbers(filled)
        wrong = f"; {numbers.null_count():,} of {len(filled):,} are no numbers" if numbers.null_count() else ""
        there = numbers.drop_nulls().to_numpy()
        return f"; numbers from {there.min():g} to {there.max():g}{wrong}"
    if role == "kind":
        return f"; {', '.join(sorted(filled.unique().to_list())[:4])}"
    return "; " + _distinct(cells) if role in ("user", "item") else f"; such as {filled[0]}"


def _numbers(filled: pl.Series) -> pl.Series:
    return filled.str.strip_chars().cast(pl.Float64, strict=False)


def _distinct(cells: pl.Series) -> str:
    return f"{cells.n_unique():,} different in {len(cells):,} rows"
