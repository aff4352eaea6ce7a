"""Dense and sparse interaction network: layers over the products of every two vectors."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from gleaner.core.models.neural.pairs.heads import Head, ProductsHead
from gleaner.core.models.neural.pairs.pair_losses import TakenPairs


@dataclass(repr=False)
class InteractionNetwork(TakenPairs):
    """score = base + the weights of all that is there + `layers` over the products of every two of its vectors: ids and
    categories have a vector each, a number is its vector times itself (Naumov, Mudigere, Shi et al. 2019)."""

    family: ClassVar[str] = "interaction_network"
    summary: ClassVar[str] = "chances by layers over the products of every two vectors"
    source: ClassVar[str] = "Naumov, Mudigere, Shi, Huang et al. 2019"
    unfit: ClassVar[str] = "to list from large catalogues: every item goes through the layers; take it over candidates"
    effort: ClassVar[str] = "per iteration about the weights of the layers for each cell and each draw"

    makes_head: ClassVar[type[Head]] = ProductsHead
