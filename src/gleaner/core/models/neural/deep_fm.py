"""Deep factorisation machine: the products of every two vectors, beside layers over the same vectors."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from gleaner.core.models.neural.pairs.heads import Head, MachineHead
from gleaner.core.models.neural.pairs.pair_losses import TakenPairs, ValuedPairs
from gleaner.core.models.neural.pairs.pair_network import PairNetwork

SOURCE = "Guo, Tang, Ye, Li, He 2017"


@dataclass(repr=False)
class DeepFmNetwork(PairNetwork):
    """score = base + the weights of all that is there + the products of every two of its vectors + `layers` over the
    same vectors, side by side (Guo, Tang, Ye, Li, He 2017)."""

    makes_head: ClassVar[type[Head]] = MachineHead


@dataclass(repr=False)
class DeepFm(DeepFmNetwork, TakenPairs):
    """Whether a user takes an item, by products of every two vectors and layers over them (Guo et al. 2017)."""

    family: ClassVar[str] = "deep_fm"
    summary: ClassVar[str] = "chances by a factorisation machine, and layers over the same vectors"
    source: ClassVar[str] = SOURCE
    unfit: ClassVar[str] = "to list from large catalogues: every item goes through the layers; take it over candidates"
    effort: ClassVar[str] = "per iteration about the weights of the layers for each cell and each draw"


@dataclass(repr=False)
class DeepFmValues(DeepFmNetwork, ValuedPairs):
    """What value a user gives an item, by products of every two vectors and layers over them (Guo et al. 2017)."""

    family: ClassVar[str] = "deep_fm_values"
    summary: ClassVar[str] = "values by a factorisation machine, and layers over the same vectors"
    source: ClassVar[str] = SOURCE
    unfit: ClassVar[str] = "when ratings are few: fm_values says more of them"
    effort: ClassVar[str] = "per iteration about the weights of the layers for each cell"
