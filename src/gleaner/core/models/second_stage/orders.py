"""The orders that a second stage can learn: boosted trees, a weighted sum, or a network."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from gleaner.core.data.array_checks import Layout
from gleaner.core.models.base.protocol import Arrays
from gleaner.core.models.second_stage import linear, network, trees
from gleaner.core.models.second_stage.folds import Lessons

Order = trees.Trees | linear.Weights | network.InputNetwork
ORDERS: dict[str, Any] = {"trees": trees.Trees, "linear": linear.Weights, "network": network.InputNetwork}
FORMULAS = {
    "trees": "by how much the questions about an input move the pair, from the top of every tree to its leaf",
    "linear": "weight * (value - mean) / deviation",
    "network": "by how much the score moves as inputs come in one after the other, the mean of both orders",
}


def learn_order(
    learner: str, learned_from: Lessons, params: dict[str, Any], report_progress: Callable[[float], bool]
) -> tuple[Order, np.ndarray]:
    """The order, and how much each input says. params: of the second stage."""
    parts = learned_from.table, learned_from.labels, learned_from.groups
    if learner == "linear":
        weights = linear.learn(*parts, params["regularisation"])
        return weights, np.abs(weights.weights)
    if learner == "network":
        return network.learn(*parts, params, report_progress)
    options = {"num_leaves": params["leaves"], "min_data_in_leaf": params["least"]}
    options |= {name: params[name] for name in ("learning_rate", "rounds")} | {"seed": params["seed"] % 2**31}
    return trees.learn(*parts, options, report_progress)


def layout_of(learner: str, n_inputs: str, layers: list[int]) -> Layout:
    """What the arrays of an order must be. n_inputs: the array that says how many inputs there are."""
    if learner == "network":
        return network.InputNetwork.layout(n_inputs, layers)
    layout: Layout = ORDERS[learner].layout(n_inputs)
    return layout


def load_order(learner: str, arrays: Arrays) -> Order:
    """Load one."""
    order: Order = ORDERS[learner].load_state(arrays)
    return order
