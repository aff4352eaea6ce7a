"""The list of models. Adding one touches its own file and one line here."""

from __future__ import annotations

from typing import Any

from gleaner.core.errors import NotFoundError
from gleaner.core.models.als import Als
from gleaner.core.models.item_knn import ItemKnn
from gleaner.core.models.item_linear import ItemLinear
from gleaner.core.models.popularity import Popularity
from gleaner.core.models.protocol import Model

FAMILIES: dict[str, type[Model]] = {model.family: model for model in (Popularity, ItemKnn, ItemLinear, Als)}


def family(name: str) -> type[Model]:
    """The class of a family. Raises NotFoundError listing what there is."""
    try:
        return FAMILIES[name]
    except KeyError:
        message = f"there is no model family {name!r}; there are: {', '.join(FAMILIES)}"
        raise NotFoundError(message, where="contenders") from None


def build(name: str, params: dict[str, Any]) -> Model:
    """A model of this family with these parameters, not yet fitted."""
    return family(name).from_params(params)
