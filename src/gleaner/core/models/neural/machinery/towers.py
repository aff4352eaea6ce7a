"""One tower: vectors of what is known of a user or an item become one, in torch to learn and in ONNX to serve."""

from __future__ import annotations

from typing import Any

import numpy as np

from gleaner.core.models.base.protocol import Arrays
from gleaner.core.models.neural.machinery.layers import build_layers, n_layers_of, run_layers
from gleaner.core.models.neural.machinery.onnx_network import FREE, NetworkBuilder

SHORTEST = 1e-12


def run_tower(torch: Any, weights: dict[str, Any], prefix: str, parts: Any, length: float | None) -> Any:
    """parts, (n, n_parts, width), through the layers, or as a sum where there are none; of one length where one is
    given: (n, width)."""
    deep = n_layers_of(weights, prefix) > 0
    x = run_layers(torch, weights, prefix, parts.flatten(1)) if deep else parts.sum(dim=1)
    if length is None:
        return x
    return x * length / (x**2).sum(dim=1, keepdim=True).sqrt().clamp_min(SHORTEST)


def build_tower(weights: Arrays, prefix: str, n_parts: int, width: int, length: float | None) -> bytes:
    """The same as a graph."""
    builder = NetworkBuilder(f"{prefix} tower")
    x = builder.input("parts", FREE, n_parts, width)
    axis = builder.constant(np.array([1], np.int64))
    if n_layers_of(weights, prefix):
        x = build_layers(builder, weights, prefix, builder.op("Flatten", x, axis=1))
    else:
        x = builder.op("ReduceSum", x, axis, keepdims=0)
    if length is not None:
        squares = builder.op("ReduceSum", builder.op("Mul", x, x), axis, keepdims=1)
        shortest = builder.constant(np.array(SHORTEST, np.float32))
        lengths = builder.op("Max", builder.op("Sqrt", squares), shortest)
        x = builder.op("Div", builder.op("Mul", x, builder.constant(np.array(length, np.float32))), lengths)
    return builder.build(x, FREE, width)
