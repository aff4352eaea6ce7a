"""Networks against themselves without depth."""

from __future__ import annotations

import pytest

from gleaner.core.errors import ParameterError
from gleaner.core.models.composition.depth import without_layers

MEMBERS = {"members": ["item_knn", "popular"]}


@pytest.mark.parametrize(
    ("family", "params", "less"),
    [
        ("deep_fm", {"rank": 4}, {"rank": 4, "layers": []}),
        ("two_towers", {"user_layers": [32, 16]}, {"user_layers": []}),
        ("two_towers", {"user_layers": [8], "item_layers": [8]}, {"user_layers": [], "item_layers": []}),
        ("graph_convolution", {"layers": 3}, {"layers": 1}),
        ("self_attention", {"blocks": 2, "rank": 8}, {"blocks": 1, "rank": 8}),
        ("second_stage", MEMBERS | {"learner": "network"}, MEMBERS | {"learner": "network", "layers": []}),
    ],
)
def test_depth_is_left_out_and_nothing_else(family, params, less):
    assert without_layers(family, params) == less


@pytest.mark.parametrize(
    ("family", "params", "says"),
    [
        ("als", {}, "without 'layers': als has none to leave out"),
        ("two_towers", {}, "two_towers has none to leave out"),
        ("self_attention", {"blocks": 1}, "self_attention has none to leave out"),
        ("second_stage", MEMBERS | {"learner": "trees"}, "second_stage has none to leave out"),
        (
            "variational_autoencoder",
            {},
            "variational_autoencoder cannot do without them: layers must name at least one",
        ),
    ],
)
def test_where_there_is_no_depth_to_leave_out_it_is_said(family, params, says):
    with pytest.raises(ParameterError, match=says):
        without_layers(family, params)
