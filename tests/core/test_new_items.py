"""Items a model never saw, scored by the items like them, against plain loops."""

from __future__ import annotations

import numpy as np
import polars as pl
import pytest

from gleaner.core.errors import InputError
from gleaner.core.fitted import Fitted
from gleaner.core.models.base.registry import build
from gleaner.core.new_items import with_new_items
from tolerances import SINGLE, SUMMED
from worlds import random_matrix

KNOWN = 9
TABLE = pl.DataFrame(
    {
        "id": [f"i{n}" for n in range(KNOWN)] + ["new-a", "new-b", "new-c"],
        "family": ["pea", "pea", "bean", "bean", "kale", "kale", "kale", "pea", "bean", "pea", "kale", "moss"],
        "traits": [["tall"], ["tall", "early"], ["early"], [], ["tall"], ["hardy"], ["hardy", "early"], ["early"], ["tall"],
                   ["tall", "early"], ["hardy"], ["rare"]],
    }
)  # fmt: skip


def cosine(one: dict, other: dict) -> float:
    """Of two items whose columns each count as a vector of length one."""
    total = 0.0
    for name in ("family", "traits"):
        left, right = one[name], other[name]
        if left and right:
            total += len(left & right) / np.sqrt(len(left) * len(right))
    sizes = [sum(bool(item[name]) for name in ("family", "traits")) for item in (one, other)]
    return total / np.sqrt(sizes[0] * sizes[1]) if total else 0.0


def shares_by_hand(alike: int) -> dict[str, dict[int, float]]:
    seen_traits = {trait for row in TABLE.head(KNOWN).iter_rows(named=True) for trait in row["traits"]}
    families = set(TABLE["family"][:KNOWN])
    items = [
        {"family": {row["family"]} & families, "traits": set(row["traits"]) & seen_traits}
        for row in TABLE.iter_rows(named=True)
    ]
    result = {}
    for place in range(KNOWN, TABLE.height):
        likeness = [(cosine(items[place], items[other]), other) for other in range(KNOWN)]
        near = [(c, other) for c, other in sorted(likeness, key=lambda each: (-each[0], each[1]))[:alike] if c > 0]
        total = sum(c for c, _ in near)
        result[TABLE["id"][place]] = {other: c / total for c, other in near}
    return result


@pytest.mark.parametrize("family", ["als", "item_knn", "user_knn", "popular"])
def test_a_new_item_scores_as_the_mean_of_those_most_like_it(family):
    train = random_matrix(3, n_items=KNOWN)
    params = {"rank": 3} if family == "als" else {}
    fitted = Fitted("m@1", build(family, params).fit(train), train)
    extended = with_new_items(fitted, TABLE, ["family", "traits"], 3)
    shares = shares_by_hand(3)
    assert extended.train.items.ids.to_pylist() == [*train.items.ids.to_pylist(), "new-a", "new-b"]
    assert shares["new-c"] == {}, "nothing is like moss, so it cannot be listed"
    rows = np.arange(len(train.users), dtype=np.int32)
    scores = fitted.model.scores(rows).astype(np.float64)
    expected = np.column_stack(
        [scores, *(sum(share * scores[:, j] for j, share in shares[new].items()) for new in ("new-a", "new-b"))]
    )
    np.testing.assert_allclose(extended.model.scores(rows), expected, rtol=SUMMED, atol=SINGLE)
    np.testing.assert_allclose(
        extended.model.item_scores(np.array([0, 10, 9])), expected[:, [0, 10, 9]].T, rtol=SUMMED, atol=SINGLE
    )
    if family == "als":
        factors = extended.model.factors()
        np.testing.assert_allclose(factors.users @ factors.items.T, expected, rtol=SUMMED, atol=SINGLE)
    assert extended.sources_of(np.array([8, 9])) == ["m@1", "m@1, by content"]
    assert fitted.sources_of(np.array([8])) == ["m@1"]


def test_what_someone_touched_that_is_new_is_folded_in_as_what_is_like_it():
    train = random_matrix(3, n_items=KNOWN)
    fitted = Fitted("m@1", build("item_knn", {"weighting": "value"}).fit(train), train)
    extended = with_new_items(fitted, TABLE, ["family", "traits"], 3)
    shares = shares_by_hand(3)["new-b"]
    mine = extended.model.scores_of(
        extended.model.fold_in(np.array([2, 10], np.int32), np.array([3.0, 2.0], np.float32))
    )
    cells = {2: 3.0}
    for j, share in shares.items():
        cells[j] = cells.get(j, 0.0) + 2.0 * share
    rows = sorted(cells)
    plain = fitted.model.scores_of(
        fitted.model.fold_in(np.array(rows, np.int32), np.array([cells[row] for row in rows], np.float32))
    )
    np.testing.assert_allclose(mine[:KNOWN], plain, rtol=SUMMED, atol=SINGLE)


def test_nothing_new_leaves_the_model_as_it_is_and_a_wrong_column_is_told():
    train = random_matrix(3, n_items=KNOWN)
    fitted = Fitted("m@1", build("popular", {}).fit(train), train)
    assert with_new_items(fitted, TABLE.head(KNOWN), ["family"], 3) is fitted
    assert with_new_items(fitted, TABLE.filter(pl.col("id") != "new-a").tail(1), ["family"], 3) is fitted
    with pytest.raises(InputError, match="there is no item column 'colour'; there are: family, traits"):
        with_new_items(fitted, TABLE, ["colour"], 3)
