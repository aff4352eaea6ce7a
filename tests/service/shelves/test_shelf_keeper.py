"""What of shelves stays in memory."""

from __future__ import annotations

from types import SimpleNamespace

import pytest
from sqlalchemy import create_engine

from gleaner.service.shelves import shelf_keeper
from gleaner.service.shelves.shelf_keeper import NUMBERED, ShelfKeeper


class Loading(ShelfKeeper):
    """Loads nothing, and counts."""

    def __init__(self) -> None:
        super().__init__(create_engine("sqlite://"), None, None)
        self.numbers_loaded: list[int] = []

    def load(self, spec, number, *, new=False):
        self.numbers_loaded.append(number)
        return SimpleNamespace(number=number, dataset_id=None)


@pytest.fixture
def keeper(monkeypatch) -> Loading:
    def number(_, name: str):
        return SimpleNamespace(spec=None, number=int(name.partition("@")[2] or 99))

    monkeypatch.setattr(shelf_keeper.shelves, "get", number)
    return Loading()


def test_versions_asked_for_by_number_do_not_pile_up(keeper):
    keeper.get("home")
    for version in range(1, NUMBERED + 3):
        assert keeper.get(f"home@{version}").number == version
    assert keeper.loaded("home") is not None
    assert [keeper.loaded(f"home@{version}") is None for version in range(1, NUMBERED + 3)] == [
        *([True] * 2),
        *([False] * NUMBERED),
    ]


def test_what_is_in_memory_is_not_loaded_again_and_what_went_is(keeper):
    for version in [*range(1, NUMBERED + 1), 1, NUMBERED + 1, 1]:
        keeper.get(f"home@{version}")
    assert keeper.numbers_loaded == [*range(1, NUMBERED + 2), 1]
