"""An order by a network over inputs and the products of every two of them, learned over whole lists."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.errors import InputError
from gleaner.core.models.base.protocol import Arrays
from gleaner.core.models.neural.machinery.layers import build_layers, random_layers, run_layers
from gleaner.core.models.neural.machinery.onnx_network import FREE, Network, NetworkBuilder
from gleaner.core.models.neural.machinery.optimiser import Optimiser
from gleaner.core.models.neural.machinery.pytorch import pytorch

WIDTH = 8
"""Of the vector of each input."""
LISTS_AT_ONCE = 64
FARTHEST = 5.0
SHOWN = 200
"""Pairs by which it is measured how much each input says."""
PARTS = ("means", "deviations", "vectors", "shifts")


@dataclass(frozen=True, eq=False)
class InputNetwork:
    """x, the inputs less their mean in deviations, within bounds; e_f = x_f V_f + B_f; score = layers over x and the
    products of every two e (Naumov, Mudigere, Shi, Huang et al. 2019). weights: all of it, by name."""

    weights: Arrays
    _ready: list[Network] = field(default_factory=list)

    def _scaled(self, table: np.ndarray) -> np.ndarray:
        x = (table - self.weights["means"]) / self.weights["deviations"]
        return np.clip(x, -FARTHEST, FARTHEST).astype(np.float32)

    def sums(self, table: np.ndarray) -> np.ndarray:
        """The score of every row: float64 (n,)."""
        return self._of_scaled(self._scaled(table))

    def _of_scaled(self, x: np.ndarray) -> np.ndarray:
        if not self._ready:
            self._ready.append(Network(self.build()))
        return self._ready[0](inputs=x)[:, 0].astype(np.float64)

    def build(self) -> bytes:
        """The graph, from scaled inputs to the score."""
        w, builder = self.weights, NetworkBuilder("second stage")
        n_inputs = len(w["vectors"])
        x = builder.input("inputs", FREE, n_inputs)
        wide = builder.op("Unsqueeze", x, builder.constant(np.array([2], np.int64)))
        e = builder.op("Add", builder.op("Mul", wide, builder.constant(w["vectors"])), builder.constant(w["shifts"]))
        products = builder.op("MatMul", e, builder.op("Transpose", e, perm=[0, 2, 1]))
        pairs = builder.constant(_pairs(n_inputs))
        flat = builder.op("Gather", builder.op("Flatten", products, axis=1), pairs, axis=1)
        return builder.build(build_layers(builder, w, "top", builder.op("Concat", x, flat, axis=1)), FREE, 1)

    def terms(self, row: np.ndarray) -> tuple[float, np.ndarray]:
        """Where every row begins, which is at the means, and by how much the score moves as inputs come in one after
        the other, the mean of both orders: their sum is its score."""
        n = len(row)
        there = np.concatenate([np.tri(n + 1, n, -1), np.tri(n + 1, n, -1)[:, ::-1]]).astype(np.float32)
        scores = self._of_scaled(self._scaled(row[None]) * there)
        forth, back = np.diff(scores[: n + 1]), np.diff(scores[n + 1 :])[::-1]
        return float(scores[0]), (forth + back) / 2

    def state(self) -> Arrays:
        """The arrays."""
        size = np.array([len(self.weights["means"])], np.int64)
        return {f"network.{name}": array for name, array in self.weights.items()} | {"n_inputs": size}

    @staticmethod
    def layout(n_inputs: str, layers: list[int]) -> Layout:
        """What the arrays must be; how many inputs and pairs of them there are is checked with the members."""
        inputs = ("inputs",)
        specs = {
            "network.means": ArraySpec("float64", inputs),
            "network.deviations": ArraySpec("float64", inputs),
            "network.vectors": ArraySpec("float32", ("inputs", WIDTH)),
            "network.shifts": ArraySpec("float32", ("inputs", WIDTH)),
            n_inputs: ArraySpec("int64", (1,), low=1),
        }
        widths: list[int | str] = ["inputs and pairs of them", *layers, 1]
        for place, after in enumerate(widths[1:]):
            specs[f"network.top.{place}.weight"] = ArraySpec("float32", (widths[place], after))
            specs[f"network.top.{place}.bias"] = ArraySpec("float32", (after,))
        return specs

    @classmethod
    def load_state(cls, arrays: Arrays) -> InputNetwork:
        """Load them. Raises InputError where the layers do not take all inputs and pairs."""
        prefix = "network."
        weights = {name.removeprefix(prefix): array for name, array in arrays.items() if name.startswith(prefix)}
        n_inputs = len(weights["means"])
        wanted = n_inputs + len(_pairs(n_inputs))
        if len(weights["top.0.weight"]) != wanted:
            text = f"array 'network.top.0.weight' takes {len(weights['top.0.weight'])} numbers, not {wanted}"
            raise InputError(text, where="network.top.0.weight")
        return cls(weights)


def _pairs(n_inputs: int) -> np.ndarray:
    """Places of every two inputs in a flat table of all products: int64."""
    rows, columns = np.triu_indices(n_inputs, 1)
    return np.asarray(rows * n_inputs + columns, np.int64)


def learn(
    table: np.ndarray,
    labels: np.ndarray,
    groups: np.ndarray,
    options: dict[str, Any],
    report_progress: Callable[[float], object],
) -> tuple[InputNetwork, np.ndarray]:
    """A network that minimises the mean over lists of - sum over what was taken of log softmax(score) / how much was
    taken (ListNet: Cao, Qin, Liu, Tsai, Li 2007), and the share of what each input moves.

    table: float32 (n, n_inputs); labels: 1 where taken; groups: pairs of each list, one after the other. options:
    layers, epochs, learning_rate, regularisation, seed.
    """
    torch = pytorch("second_stage with `learner: network`")
    random = np.random.Generator(np.random.PCG64(options["seed"]))
    n_inputs = table.shape[1]
    deviations = table.std(axis=0, dtype=np.float64)
    scale = {"means": table.mean(axis=0, dtype=np.float64), "deviations": np.where(deviations > 0, deviations, 1.0)}
    weights: Arrays = {
        "vectors": (random.standard_normal((n_inputs, WIDTH)) * 0.1).astype(np.float32),
        "shifts": (random.standard_normal((n_inputs, WIDTH)) * 0.1).astype(np.float32),
        **random_layers(random, "top", [n_inputs + len(_pairs(n_inputs)), *options["layers"], 1]),
    }
    network = InputNetwork(scale | weights)
    x, starts = network._scaled(table), np.concatenate([[0], np.cumsum(groups)])
    optimiser, pairs = (
        Optimiser(torch, weights, options["learning_rate"] / 20),
        torch.from_numpy(_pairs(n_inputs)),
    )
    for epoch in range(options["epochs"]):
        order = random.permutation(len(groups))
        for lo in range(0, len(order), LISTS_AT_ONCE):
            lists = order[lo : lo + LISTS_AT_ONCE]
            rows = np.concatenate([np.arange(starts[each], starts[each + 1]) for each in lists])
            owner = torch.from_numpy(np.repeat(np.arange(len(lists)), groups[lists]))
            scores = _scores_in(torch, optimiser.tensors, torch.from_numpy(x[rows]), pairs)
            loss = _list_loss(torch, scores, torch.from_numpy(labels[rows].astype(np.float32)), owner, len(lists))
            squares = sum((each**2).sum() for name, each in optimiser.tensors.items() if name.endswith("weight"))
            optimiser.step(loss + options["regularisation"] * squares)
        report_progress((epoch + 1) / options["epochs"])
    some = random.choice(len(table), min(SHOWN, len(table)), replace=False)
    return network, np.mean([np.abs(network.terms(table[row])[1]) for row in some], axis=0)


def _scores_in(torch: Any, weights: dict[str, Any], x: Any, pairs: Any) -> Any:
    e = x[:, :, None] * weights["vectors"] + weights["shifts"]
    products = (e @ e.transpose(1, 2)).flatten(1)[:, pairs]
    return run_layers(torch, weights, "top", torch.cat([x, products], dim=1))[:, 0]


def _list_loss(torch: Any, scores: Any, labels: Any, owner: Any, n_lists: int) -> Any:
    highest = torch.full((n_lists,), -torch.inf).scatter_reduce(0, owner, scores.detach(), "amax")
    lowered = scores - highest[owner]
    whole = torch.zeros(n_lists).index_add(0, owner, lowered.exp()).log()
    taken = torch.zeros(n_lists).index_add(0, owner, labels).clamp_min(1.0)
    return -(labels * (lowered - whole[owner]) / taken[owner]).sum() / n_lists
