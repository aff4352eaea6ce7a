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
    rows = table("", "item", "score", *names, right=("", "score"))
    for place in places:
        cells = [plain_cell(place.columns.get(name)) for name in names]
        score = "" if place.score is None else f"{place.score:.4f}"
        rows.add_row(str(place.position), place.item + (" (promoted)" if place.promoted else ""), score, *cells)
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
