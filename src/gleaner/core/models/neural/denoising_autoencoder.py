"""Denoising autoencoder of histories."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.neural.machinery.autoencoder import Autoencoder


@dataclass(repr=False)
class DenoisingAutoencoder(Autoencoder):
    """An autoencoder that learns to tell the whole of a history from the part of it that was not hidden, with the same
    multinomial loss (Vincent, Larochelle, Bengio, Manzagol 2008; Wu, DuBois, Zheng, Ester 2016; the loss: Liang,
    Krishnan, Hoffman, Jebara 2018)."""

    family: ClassVar[str] = "denoising_autoencoder"
    summary: ClassVar[str] = "a history of which a part is hidden, squeezed into a vector from which every item is told"
    source: ClassVar[str] = "Vincent, Larochelle, Bengio, Manzagol 2008; Wu, DuBois, Zheng, Ester 2016"
    unfit: ClassVar[str] = "when users have few items: item_linear says as much in a second"
    effort: ClassVar[str] = "per iteration about 6 users items rank"

    layers: list[int] = parameter([], "widths of the layers before it")
