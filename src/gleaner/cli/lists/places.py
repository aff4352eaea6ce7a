"""The places of a list in the terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from gleaner.cli.common import console, table

if TYPE_CHECKING:
    from collections.abc import Sequence

    from gleaner.wire.models.lists import Recommended
    from gleaner.wire.shelves.shelf import RecommendationAnswer

MOST_COLUMNS = 4
WIDEST_CELL = 40


def show_places(places: Sequence[Recommended]) -> None:
    """A table of places, with the first few short item columns that came along."""
    names = [name for name in (places[0].columns if places else {}) if _short(places, name)][:MOST_COLUMNS]
    sampled = any(place.propensity is not None for place in places)
    likely = any(_likelihood(place) is not None for place in places)
    several = len({place.source for place in places}) > 1
    more = [name for name, shown in (("likelihood", likely), ("chance", sampled), ("source", several)) if shown]
    rows = table("", "item", "score", *more, *names, right=("", "score", "likelihood", "chance"))
    for place in places:
        cells = [plain_cell(place.columns.get(name)) for name in names]
        score = "" if place.score is None else f"{place.score:.4f}"
        chance = "" if place.propensity is None else f"{place.propensity:.3f}"
        likelihood = _likelihood(place)
        columns = ["" if likelihood is None else f"{likelihood:.2%}"] if likely else []
        columns += [*([chance] if sampled else []), *([place.source] if several else [])]
        rows.add_row(
            str(place.position), place.item + (" (promoted)" if place.promoted else ""), score, *columns, *cells
        )
    console().print(rows)


def _likelihood(place: Recommended) -> float | None:
    """Of a place of a model's list."""
    return getattr(place, "likelihood", None)


def show_beside(one: RecommendationAnswer, other: RecommendationAnswer) -> None:
    """Two lists for the same person side by side, and what they share."""
    names = [f"{answer.shelf}@{answer.version}" for answer in (one, other)]
    places = [{place.item: place.position for place in answer.list} for answer in (one, other)]
    rows = table("", names[0], "there at", "", names[1], "there at", right=("", "there at"), whole=("",))
    for at in range(max(len(one.list), len(other.list))):
        cells = [str(at + 1)]
        for mine, theirs in ((one, places[1]), (other, places[0])):
            place = mine.list[at] if at < len(mine.list) else None
            there = "" if place is None else str(theirs.get(place.item, "not"))
            cells += ["" if place is None else _titled(place), there, ""]
        rows.add_row(*cells[:-1])
    console().print(rows)
    both = places[0].keys() & places[1].keys()
    same = sum(places[0][item] == places[1][item] for item in both)
    console().print(f"{len(both)} of {max(map(len, places))} stand in both, {same} at the same place")
    for name, answer in zip(names, (one, other), strict=True):
        if answer.folded_in:
            console().print(f"{name}: {answer.folded_in}", soft_wrap=True)
        if answer.fallback:
            console().print(f"{name}: [yellow]fallback[/] {answer.fallback}", soft_wrap=True)


def _titled(place: Recommended) -> str:
    name = place.columns.get("name")
    return f"{name} ({place.item})" if name else place.item


def plain_cell(value: Any) -> str:
    """A column's value as people write it."""
    if isinstance(value, list):
        return ", ".join(map(str, value))
    if isinstance(value, bool):
        return "yes" if value else "no"
    return "" if value is None else str(value)


def _short(places: Sequence[Recommended], name: str) -> bool:
    return max(len(str(place.columns.get(name) or "")) for place in places) <= WIDEST_CELL
