"""The places of a list in the terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from gleaner.cli.common import console, table

if TYPE_CHECKING:
    from gleaner.wire.models import Recommended

MOST_COLUMNS = 4
WIDEST_CELL = 40


def show_places(places: list[Recommended]) -> None:
    """A table of places, with the first few short item columns that came along."""
    names = [name for name in (places[0].columns if places else {}) if _short(places, name)][:MOST_COLUMNS]
    chances = any(place.propensity is not None for place in places)
    several = len({place.source for place in places}) > 1
    more = [name for name, shown in (("chance", chances), ("source", several)) if shown]
    rows = table("", "item", "score", *more, *names, right=("", "score", "chance"))
    for place in places:
        cells = [plain_cell(place.columns.get(name)) for name in names]
        score = "" if place.score is None else f"{place.score:.4f}"
        chance = "" if place.propensity is None else f"{place.propensity:.3f}"
        told = [*([chance] if chances else []), *([place.source] if several else [])]
        rows.add_row(str(place.position), place.item + (" (promoted)" if place.promoted else ""), score, *told, *cells)
    console().print(rows)


def plain_cell(value: Any) -> str:
    """A column's value as people write it."""
    if isinstance(value, list):
        return ", ".join(map(str, value))
    if isinstance(value, bool):
        return "yes" if value else "no"
    return "" if value is None else str(value)


def _short(places: list[Recommended], name: str) -> bool:
    return max(len(str(place.columns.get(name) or "")) for place in places) <= WIDEST_CELL
