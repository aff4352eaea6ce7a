"""The list of model families. Adding one touches its own file and one line here."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from importlib import import_module
from importlib.metadata import entry_points
from typing import Any

from gleaner.core.errors import UnknownNameError, near
from gleaner.core.models.base.context import TakesContext
from gleaner.core.models.base.protocol import Model

GROUPS = {
    "no personalisation": {
        "popular": "baselines.popularity:Popular",
        "trending": "baselines.trending:Trending",
        "mean_value": "baselines.mean_value:MeanValue",
        "random": "baselines.chance:Random",
    },
    "neighbourhood": {
        "item_knn": "neighbours.item_knn:ItemKnn",
        "user_knn": "neighbours.user_knn:UserKnn",
        "item_knn_values": "neighbours.knn_values:ItemKnnValues",
        "user_knn_values": "neighbours.knn_values:UserKnnValues",
        "association": "neighbours.association:Association",
    },
    "linear item-item": {
        "item_linear": "linear.item_linear:ItemLinear",
        "item_sparse": "linear.item_sparse:ItemSparse",
    },
    "factorisation, values": {
        "biases": "values.biases:BiasesOnly",
        "sgd_values": "values.sgd_values:SgdValues",
        "svdpp": "values.implicit_values:Svdpp",
        "als_values": "values.als_values:AlsValues",
        "svd_values": "values.svd_values:SvdValues",
        "nmf_values": "values.nonnegative:NmfValues",
    },
    "factorisation, implicit": {
        "als": "implicit.als:Als",
        "bpr": "implicit.bpr:Bpr",
        "warp": "implicit.warp:Warp",
        "logistic": "implicit.logistic:Logistic",
    },
    "with features": {
        "item_content": "features.item_content:ItemContent",
        "user_content": "features.user_content:UserContent",
        "feature_sum": "features.feature_sum:FeatureSum",
        "fm_values": "machines.fm_values:FmValues",
        "ffm_values": "machines.ffm_values:FfmValues",
        "fm_ranking": "machines.fm_ranking:FmRanking",
    },
    "neural": {
        "two_towers": "neural.two_towers:TwoTowers",
        "wide_deep": "neural.wide_deep:WideDeep",
        "wide_deep_values": "neural.wide_deep:WideDeepValues",
        "deep_fm": "neural.deep_fm:DeepFm",
        "deep_fm_values": "neural.deep_fm:DeepFmValues",
        "interaction_network": "neural.interaction_network:InteractionNetwork",
        "graph_convolution": "neural.graph_convolution:GraphConvolution",
        "graph_values": "neural.graph_values:GraphValues",
        "variational_autoencoder": "neural.variational_autoencoder:VariationalAutoencoder",
        "denoising_autoencoder": "neural.denoising_autoencoder:DenoisingAutoencoder",
        "boltzmann": "neural.boltzmann:Boltzmann",
        "boltzmann_values": "neural.boltzmann_values:BoltzmannValues",
        "self_attention": "neural.self_attention:SelfAttention",
    },
    "blends": {
        "blend": "blends.blend:ScoreBlend",
        "blend_ranks": "blends.blend:RankBlend",
    },
    "second stage": {
        "second_stage": "second_stage.second_stage:SecondStage",
    },
}
"""Each family's module and class within `core.models`, by what the families have in common."""

BROUGHT = "gleaner.models"
"""The entry points by which another package brings families of its own: `name = "package.module:Class"`."""


class Families(Mapping[str, type[Model]]):
    """Classes by family name, ours in the order of GROUPS and then those that other packages bring. A class is imported
    when it is first asked for: blends name other families, and no family may wait for another to be imported."""

    def __init__(self) -> None:
        root = __name__.rpartition(".base.")[0]
        self._places = {name: f"{root}.{place}" for group in GROUPS.values() for name, place in group.items()}
        for each in entry_points(group=BROUGHT):
            self._places.setdefault(each.name, each.value)
        self._classes: dict[str, type[Model]] = {}

    def __getitem__(self, name: str) -> type[Model]:
        """The class of a family. Raises KeyError."""
        if name not in self._classes:
            module, _, cls = self._places[name].partition(":")
            self._classes[name] = getattr(import_module(module), cls)
        return self._classes[name]

    def __contains__(self, name: object) -> bool:
        """Whether there is such a family; nothing is imported for it."""
        return name in self._places

    def __iter__(self) -> Iterator[str]:
        """The names."""
        return iter(self._places)

    def __len__(self) -> int:
        """How many there are."""
        return len(self._places)


FAMILIES = Families()


def groups() -> dict[str, list[type[Model]]]:
    """Every family by what it has in common with others; those that other packages bring come last."""
    ours = {group: [FAMILIES[name] for name in members] for group, members in GROUPS.items()}
    brought = [FAMILIES[name] for name in FAMILIES if not any(name in members for members in GROUPS.values())]
    return ours | ({"from other packages": brought} if brought else {})


def family(name: str) -> type[Model]:
    """The class of a family. Raises UnknownNameError listing what there is."""
    try:
        return FAMILIES[name]
    except KeyError:
        message = f"there is no model family {name!r}{near(name, FAMILIES)}"
        raise UnknownNameError(message, where="contenders") from None


def any_takes_context(names: Iterable[str]) -> bool:
    """Whether one of these families looks at columns of the interaction."""
    return any(issubclass(family(name), TakesContext) for name in names)


def build(name: str, params: dict[str, Any]) -> Model:
    """A model of this family with these parameters, not yet fitted."""
    return family(name).from_params(params)
