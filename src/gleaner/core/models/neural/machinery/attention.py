"""A block of self-attention, in torch for learning and in ONNX for serving (Vaswani et al. 2017; normed before rather
than after each part, as Xiong et al. 2020 advise)."""

from __future__ import annotations

from typing import Any

import numpy as np

from gleaner.core.models.base.protocol import Arrays
from gleaner.core.models.neural.machinery.onnx_network import NetworkBuilder

HIDDEN = np.float32(-1e9)
"""Added to what a place must not see."""
EPSILON = 1e-5


MATRICES = ("query", "key", "value", "mix", "inner", "outer")
ZEROS, ONES = ("inner_bias", "outer_bias", "attend.shift", "feed.shift"), ("attend.scale", "feed.scale")


def block_shapes(prefix: str, rank: int) -> dict[str, tuple[int, ...]]:
    """Return the shape of each array of one block, without making any."""
    shapes: dict[str, tuple[int, ...]] = {f"{prefix}.{name}": (rank, rank) for name in MATRICES}
    return shapes | {f"{prefix}.{name}": (rank,) for name in (*ZEROS, *ONES)}


def block_weights(random: np.random.Generator, prefix: str, rank: int) -> Arrays:
    """Return the arrays that one block starts from."""
    edge = np.sqrt(3 / rank)
    arrays: Arrays = {}
    for name in MATRICES:
        arrays[f"{prefix}.{name}"] = random.uniform(-edge, edge, (rank, rank)).astype(np.float32)
    for name in ZEROS:
        arrays[f"{prefix}.{name}"] = np.zeros(rank, np.float32)
    for name in ONES:
        arrays[f"{prefix}.{name}"] = np.ones(rank, np.float32)
    return arrays


def may_see(there: np.ndarray) -> np.ndarray:
    """0 where a place may see another, which is there and not after it, or itself; float32 (n, 1, length, length)."""
    length = there.shape[1]
    before = np.tri(length, dtype=bool)
    seen = (there[:, None, :] & before) | np.eye(length, dtype=bool)
    return np.where(seen, np.float32(0), HIDDEN)[:, None].astype(np.float32)


def normed(torch: Any, x: Any, scale: Any, shift: Any) -> Any:
    """x with mean 0 and deviation 1 over the last axis, then scaled and shifted (Ba, Kiros, Hinton 2016)."""
    return torch.nn.functional.layer_norm(x, x.shape[-1:], scale, shift, EPSILON)


def run_block(torch: Any, weights: dict[str, Any], prefix: str, x: Any, seen: Any, heads: int) -> Any:
    """x, (n, length, rank), with what attention and two layers add. seen: of `may_see`."""
    n, length, rank = x.shape

    def part(name: str) -> Any:
        return weights[f"{prefix}.{name}"]

    def split(y: Any) -> Any:
        return y.reshape(n, length, heads, rank // heads).transpose(1, 2)

    y = normed(torch, x, part("attend.scale"), part("attend.shift"))
    query, key, value = (split(y @ part(name)) for name in ("query", "key", "value"))
    likeness = query @ key.transpose(2, 3) / (rank // heads) ** 0.5 + seen
    mixed = torch.softmax(likeness, dim=-1) @ value
    x = x + mixed.transpose(1, 2).reshape(n, length, rank) @ part("mix")
    y = normed(torch, x, part("feed.scale"), part("feed.shift"))
    return x + torch.relu(y @ part("inner") + part("inner_bias")) @ part("outer") + part("outer_bias")


def build_block(builder: NetworkBuilder, weights: Arrays, prefix: str, x: str, seen: str, heads: int) -> str:
    """The same in a graph."""
    rank = len(weights[f"{prefix}.mix"])

    def part(name: str) -> np.ndarray:
        return weights[f"{prefix}.{name}"]

    def shape(*lengths: int) -> str:
        return builder.constant(np.array(lengths, np.int64))

    def norm(y: str, name: str) -> str:
        scale, shift = builder.constant(part(f"{name}.scale")), builder.constant(part(f"{name}.shift"))
        return builder.op("LayerNormalization", y, scale, shift, axis=-1, epsilon=EPSILON)

    def split(y: str, order: list[int]) -> str:
        # lengths of 0 are those that come in
        return builder.op("Transpose", builder.op("Reshape", y, shape(0, 0, heads, rank // heads)), perm=order)

    y = norm(x, "attend")
    query = split(builder.linear(y, part("query") / np.float32((rank // heads) ** 0.5)), [0, 2, 1, 3])
    key = split(builder.linear(y, part("key")), [0, 2, 3, 1])
    value = split(builder.linear(y, part("value")), [0, 2, 1, 3])
    likeness = builder.op("Add", builder.op("MatMul", query, key), seen)
    mixed = builder.op("MatMul", builder.op("Softmax", likeness, axis=-1), value)
    joined = builder.op("Reshape", builder.op("Transpose", mixed, perm=[0, 2, 1, 3]), shape(0, 0, rank))
    x = builder.op("Add", x, builder.linear(joined, part("mix")))
    inner = builder.op("Relu", builder.linear(norm(x, "feed"), part("inner"), part("inner_bias")))
    return builder.op("Add", x, builder.linear(inner, part("outer"), part("outer_bias")))
