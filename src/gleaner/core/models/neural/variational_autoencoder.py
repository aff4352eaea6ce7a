"""Variational autoencoder of histories."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

from gleaner.core.errors import ParameterError, require_range
from gleaner.core.models.base.parameters import parameter
from gleaner.core.models.neural.machinery.autoencoder import Autoencoder
from gleaner.core.models.neural.machinery.network_model import Draws


@dataclass(repr=False)
class VariationalAutoencoder(Autoencoder):
    """An autoencoder whose vector z is drawn while it learns, from a normal distribution whose means and deviations
    come out of the layers: what tells the history again must bear with a blur. The loss is

        - sum over the history of log softmax(score) + beta KL(normal of z | standard normal)

    of every user, beta growing from 0 to `anneal_to` over the first `anneal` iterations (Liang, Krishnan, Hoffman,
    Jebara 2018). Serving takes the means.
    """

    family: ClassVar[str] = "variational_autoencoder"
    summary: ClassVar[str] = "a history squeezed into a blurred vector, from which every item is told again"
    source: ClassVar[str] = "Liang, Krishnan, Hoffman, Jebara 2018; Kingma, Welling 2014"
    unfit: ClassVar[str] = "when users have few items: item_linear says as much in a second"
    effort: ClassVar[str] = "per iteration about 6 users items rank"
    bottom: ClassVar[int] = 2

    iterations: int = parameter(20, "passes over the users, at most")
    anneal: int = parameter(20, "iterations over which the weight of the blur grows")
    anneal_to: float = parameter(0.2, "what that weight grows to")

    def __post_init__(self) -> None:
        super().__post_init__()
        if not self.layers:
            raise ParameterError("layers must name at least one width, of which the blur is made", where="layers")
        require_range("anneal", self.anneal, 0, 10_000, whole=True)
        require_range("anneal_to", self.anneal_to, 0, 100)

    def middle(self, weights: dict[str, Any], bottom: Any, draws: Draws) -> tuple[Any, Any]:
        """Means and logs of variances; z drawn of them; the divergence from a standard normal distribution."""
        import torch

        means, logs = bottom[:, : self.rank], bottom[:, self.rank :]
        blur = torch.randn(means.shape, generator=draws.generator)
        apart = 0.5 * (means**2 + logs.exp() - logs - 1).sum(dim=1)
        begun = min(1.0, draws.iteration / max(1, self.anneal))
        return means + blur * (0.5 * logs).exp(), self.anneal_to * begun * apart.sum()
