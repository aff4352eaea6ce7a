"""The list of models. Adding one touches its own file and one line here."""

from __future__ import annotations

from typing import Any

from gleaner.core.errors import NotFoundError, near
from gleaner.core.models.als import Als
from gleaner.core.models.als_values import AlsValues
from gleaner.core.models.association import Association
from gleaner.core.models.biases import BiasesOnly
from gleaner.core.models.blend import RankBlend, ScoreBlend
from gleaner.core.models.bpr import Bpr
from gleaner.core.models.chance import Chance
from gleaner.core.models.feature_sum import FeatureSum
from gleaner.core.models.implicit_values import ImplicitValues
from gleaner.core.models.item_content import ItemContent
from gleaner.core.models.item_knn import ItemKnn
from gleaner.core.models.item_linear import ItemLinear
from gleaner.core.models.item_sparse import ItemSparse
from gleaner.core.models.knn_values import ItemKnnValues, UserKnnValues
from gleaner.core.models.logistic import Logistic
from gleaner.core.models.mean_value import MeanValue
from gleaner.core.models.nonnegative import NonNegative
from gleaner.core.models.popularity import Popularity
from gleaner.core.models.protocol import Model
from gleaner.core.models.sgd_values import SgdValues
from gleaner.core.models.svd_values import SvdValues
from gleaner.core.models.trending import Trending
from gleaner.core.models.user_knn import UserKnn
from gleaner.core.models.warp import Warp

GROUPS: dict[str, tuple[type[Model], ...]] = {
    "no personalisation": (Popularity, Trending, MeanValue, Chance),
    "neighbourhood": (ItemKnn, UserKnn, ItemKnnValues, UserKnnValues, Association),
    "linear item-item": (ItemLinear, ItemSparse),
    "factorisation, values": (BiasesOnly, SgdValues, ImplicitValues, AlsValues, SvdValues, NonNegative),
    "factorisation, implicit": (Als, Bpr, Warp, Logistic),
    "with features": (ItemContent, FeatureSum),
    "blends": (ScoreBlend, RankBlend),
}
FAMILIES: dict[str, type[Model]] = {model.family: model for group in GROUPS.values() for model in group}


def family(name: str) -> type[Model]:
    """The class of a family. Raises NotFoundError listing what there is."""
    try:
        return FAMILIES[name]
    except KeyError:
        message = f"there is no model family {name!r}{near(name, FAMILIES)}"
        raise NotFoundError(message, where="contenders") from None


def build(name: str, params: dict[str, Any]) -> Model:
    """A model of this family with these parameters, not yet fitted."""
    return family(name).from_params(params)
