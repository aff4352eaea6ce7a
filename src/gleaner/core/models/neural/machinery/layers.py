"""Layers of neurons, in torch for learning and in ONNX for serving."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from typing import Any

import numpy as np

from gleaner.core.data.array_checks import ArraySpec, Layout
from gleaner.core.errors import ParameterError, require_range
from gleaner.core.models.base.protocol import Arrays
from gleaner.core.models.neural.machinery.onnx_network import NetworkBuilder

ACTIVATIONS = {"relu": "Relu", "tanh": "Tanh"}


def require_layers(name: str, given: object) -> None:
    """Raise ParameterError unless a parameter is a list of up to eight widths."""
    if not isinstance(given, list) or len(given) > 8:
        raise ParameterError(f"{name} must be a list of at most 8 widths, not {given!r}", where=name)
    for width in given:
        require_range(name, width, 1, 8192, whole=True)


def random_layers(random: np.random.Generator, prefix: str, widths: list[int]) -> Arrays:
    """Weights and biases from width to width, spread as Glorot and Bengio 2010 advise: `PREFIX.0.weight` and so on."""
    arrays: Arrays = {}
    for place, (before, after) in enumerate(itertools.pairwise(widths)):
        edge = np.sqrt(6 / (before + after))
        arrays[f"{prefix}.{place}.weight"] = random.uniform(-edge, edge, (before, after)).astype(np.float32)
        arrays[f"{prefix}.{place}.bias"] = np.zeros(after, np.float32)
    return arrays


def layers_layout(prefix: str, widths: Sequence[int | str]) -> Layout:
    """What such arrays must be."""
    specs = {}
    for place, (before, after) in enumerate(itertools.pairwise(widths)):
        specs[f"{prefix}.{place}.weight"] = ArraySpec("float32", (before, after))
        specs[f"{prefix}.{place}.bias"] = ArraySpec("float32", (after,))
    return specs


def n_layers_of(weights: dict[str, Any], prefix: str) -> int:
    """How many layers of this name there are."""
    return sum(name.startswith(f"{prefix}.") and name.endswith(".weight") for name in weights)


def run_layers(
    torch: Any, weights: dict[str, Any], prefix: str, x: Any, activation: str = "relu", *, last: bool = False
) -> Any:
    """x through the layers; last: whether the last is activated too."""
    n = n_layers_of(weights, prefix)
    for place in range(n):
        x = x @ weights[f"{prefix}.{place}.weight"] + weights[f"{prefix}.{place}.bias"]
        if last or place < n - 1:
            x = getattr(torch, activation)(x)
    return x


def build_layers(
    builder: NetworkBuilder, weights: Arrays, prefix: str, x: str, activation: str = "relu", *, last: bool = False
) -> str:
    """The same in a graph."""
    n = n_layers_of(weights, prefix)
    for place in range(n):
        x = builder.linear(x, weights[f"{prefix}.{place}.weight"], weights[f"{prefix}.{place}.bias"])
        if last or place < n - 1:
            x = builder.op(ACTIVATIONS[activation], x)
    return x
