"""The counting families and the blends against what they say they compute."""

from __future__ import annotations

import dataclasses

import numpy as np
import pytest

from gleaner.core.errors import InputError, ParameterError
from gleaner.core.models.base.registry import build
from tolerances import SINGLE, SUMMED
from worlds import dense_of, rated_matrix

EVERYONE = np.arange(40, dtype=np.int32)


def test_trending_and_the_faces_of_popularity():
    matrix = rated_matrix(5)
    _dense, observed = dense_of(matrix)
    days = np.where(matrix.indices == 3, 99.0, 10.0 + matrix.indices)
    kinds = np.where(matrix.user_rows % 2 == 0, np.uint64(1), np.uint64(2))
    matrix = dataclasses.replace(matrix, days=days, kinds=kinds, kind_names=("save", "view"))
    trend = build("trending", {"recent_days": 7, "usual_days": 200}).fit(matrix).scores(EVERYONE[:1])[0]
    n3 = observed[:, 3].sum()
    assert trend[3] == pytest.approx(n3) == trend.max()
    assert trend[5] == pytest.approx(
        -(e := observed[:, 5].sum() / (observed.sum() - n3) * n3) / np.sqrt(e + 1), rel=SINGLE
    )
    counts = build("popular", {"kind": "view"}).fit(matrix).scores(EVERYONE[:1])[0]
    np.testing.assert_array_equal(counts, observed[1::2].sum(axis=0))
    halved = build("popular", {"half_life_days": 89.0 - 5}).fit(matrix).scores(EVERYONE[:1])[0]
    assert halved[5] == pytest.approx(observed[:, 5].sum() / 2)
    assert build("popular", {"window_days": 1}).fit(matrix).scores(EVERYONE[:1])[0].nonzero()[0].tolist() == [3]
    with pytest.raises(InputError, match="there is no kind 'grown' in the training part; it has save, view"):
        build("popular", {"kind": "grown"}).fit(matrix)
    with pytest.raises(InputError, match="trending looks at times, and this dataset has none"):
        build("trending", {}).fit(rated_matrix(5, dated=False))


def test_blends_join_what_their_members_say():
    from scipy.stats import rankdata

    matrix = rated_matrix(5)
    _, observed = dense_of(matrix)
    members = [{"item_knn": {"neighbours": 5}}, {"als": {"rank": 3}}]
    tables = [build(*next(iter(each.items()))).fit(matrix).scores(EVERYONE).astype(float) for each in members]
    for name, params in (("blend", {}), ("blend", {"normalise": "range"}), ("blend_ranks", {})):
        actual = build(name, {"members": members, "weights": [2.0, 1.0], **params}).fit(matrix).scores(EVERYONE)
        for user in (5, 11):
            free = ~observed[user]
            expected = 0
            for weight, table in zip((2.0, 1.0), tables, strict=True):
                x = table[user, free]
                if name == "blend_ranks":
                    z = 1 / (60 + rankdata(-x))
                elif params:
                    z = (x - x.min()) / (x.max() - x.min())
                else:
                    z = (x - x.mean()) / x.std()
                expected = expected + weight * z
            np.testing.assert_allclose(actual[user, free], expected, rtol=SUMMED, atol=SINGLE)
            assert actual[user, ~free].max() < actual[user, free].min()
    with pytest.raises(ParameterError, match="member als: rank must be"):
        build("blend", {"members": ["item_knn", {"als": {"rank": 0}}]})
    with pytest.raises(ParameterError, match="3 weights are given for 2 members"):
        build("blend", {"weights": [1, 2, 3]})
    with pytest.raises(ParameterError, match="blend_ranks has members, and cannot be one"):
        build("blend", {"members": ["item_knn", "blend_ranks"]})
