"""What a network is made of, to be drawn, and what of it can be taken elsewhere."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import ClassVar, Literal

from gleaner.core.models.base.protocol import Arrays, Model

Side = Literal["user", "item", "both"]


@dataclass(frozen=True)
class NetworkPart:
    """One part, in the order in which numbers go through. side: what it looks at. takes: what goes in or is looked up.
    width: how many numbers come out. weights: how many are learned in it."""

    side: Side
    name: str
    takes: str
    width: int
    weights: int


class HasNetwork(ABC):
    """Is a network, which can be drawn and taken elsewhere."""

    graph_inputs: ClassVar[dict[str, str]] = {}
    """What the graphs take, by name, in words: how to make it of the tables of the state."""

    @abstractmethod
    def parts(self) -> list[NetworkPart]:
        """What it is made of: a user's side, an item's, and where they meet."""

    def graphs(self) -> dict[str, bytes]:
        """The graphs that serving runs, as ONNX; none where vectors are all there is."""
        return {}


def network_of(model: Model) -> list[NetworkPart]:
    """What a fitted network is made of; nothing for any other model."""
    return model.parts() if isinstance(model, HasNetwork) else []


def table_part(side: Side, name: str, takes: str, n_rows: int, width: int) -> NetworkPart:
    """A table of vectors."""
    return NetworkPart(side, name, takes, width, n_rows * width)


def column_part(side: Side, name: str, n_features: int, width: int) -> NetworkPart:
    """The vectors of a column's features."""
    takes = f"{n_features:,} feature{'' if n_features == 1 else 's'}"
    return table_part(side, name, takes, n_features, width)


def layer_parts(side: Side, prefix: str, weights: Arrays, what: str, first: int = 0) -> list[NetworkPart]:
    """The layers of this name, one after the other."""
    parts = []
    place = first
    while f"{prefix}.{place}.weight" in weights:
        weight, bias = (weights[f"{prefix}.{place}.{part}"] for part in ("weight", "bias"))
        takes = f"{len(weight):,} numbers"
        parts.append(NetworkPart(side, f"{what} {place + 1}", takes, weight.shape[1], weight.size + bias.size))
        place += 1
    return parts
