"""Wide and deep: a weight for every meeting of two features, beside layers over vectors."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from gleaner.core.models.neural.pairs.heads import DeepHead, Head
from gleaner.core.models.neural.pairs.pair_losses import TakenPairs, ValuedPairs
from gleaner.core.models.neural.pairs.pair_network import PairNetwork

SOURCE = "Cheng, Koc, Harmsen, Shaked et al. 2016"


@dataclass(repr=False)
class WideDeepNetwork(PairNetwork):
    """score = base + the weights of all that is there + a weight for each category of the user or the context that
    meets one of the item (wide) + `layers` over vectors of all that is there, side by side (deep) (Cheng et al.
    2016)."""

    crossing: ClassVar[bool] = True

    makes_head: ClassVar[type[Head]] = DeepHead


@dataclass(repr=False)
class WideDeep(WideDeepNetwork, TakenPairs):
    """Whether a user takes an item, by weights of what meets what, and layers over vectors (Cheng et al. 2016)."""

    family: ClassVar[str] = "wide_deep"
    summary: ClassVar[str] = "chances by weights of every two features that meet, and layers over vectors of all"
    source: ClassVar[str] = SOURCE
    unfit: ClassVar[str] = "to list from large catalogues: every item goes through the layers; take it over candidates"
    effort: ClassVar[str] = "per iteration about the weights of the layers for each cell and each draw"


@dataclass(repr=False)
class WideDeepValues(WideDeepNetwork, ValuedPairs):
    """What value a user gives an item, by weights of what meets what, and layers over vectors (Cheng et al. 2016)."""

    family: ClassVar[str] = "wide_deep_values"
    summary: ClassVar[str] = "values by weights of every two features that meet, and layers over vectors of all"
    source: ClassVar[str] = SOURCE
    unfit: ClassVar[str] = "when ratings are few: fm_values says more of them"
    effort: ClassVar[str] = "per iteration about the weights of the layers for each cell"
