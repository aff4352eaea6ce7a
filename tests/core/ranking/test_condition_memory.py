"""Masks that conditions keep for the next who ask are bounded in bytes."""

from __future__ import annotations

import polars as pl

from gleaner.core.ranking.conditions.condition import MAX_MASKS, Condition, Masks
from gleaner.core.ranking.conditions.operands import Schema
from gleaner.core.ranking.conditions.values import Bindings


def masks_of(n_items: int, mask_bytes: int) -> Masks:
    table = pl.DataFrame({"id": [f"i{n}" for n in range(n_items)], "stock": list(range(n_items))})
    condition = Condition("stock > :context.least", Schema(dict(table.schema), {}, []))
    return Masks(condition, table, mask_bytes=mask_bytes)


def test_masks_are_kept_up_to_so_many_bytes():
    masks = masks_of(1000, 8000)
    for least in range(30):
        allowed = masks.allowed(Bindings(context={"least": least}))
        assert int(allowed.sum()) == 999 - least
    assert (len(masks._kept), masks.max_kept) == (8, 8)
    assert sum(mask.nbytes for mask in masks._kept.values()) == 8000


def test_few_items_keep_a_number_of_masks_and_very_many_none():
    assert masks_of(10, 2**20).max_kept == MAX_MASKS
    large = masks_of(1000, 500)
    assert int(large.allowed(Bindings(context={"least": 990})).sum()) == 9
    assert len(large._kept) == 0


def test_what_a_request_brings_is_kept_only_where_it_is_short():
    table = pl.DataFrame({"id": ["a", "b"], "name": ["x", "y"]})
    masks = Masks(Condition("name = :context.name", Schema(dict(table.schema), {}, [])), table)
    for text in ("x", "x" * 10_000):
        assert masks.allowed(Bindings(context={"name": text})).tolist() == [text == "x", False]
    assert len(masks._kept) == 1
