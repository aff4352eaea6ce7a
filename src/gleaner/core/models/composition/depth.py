"""A network against itself with as little depth as its family takes."""

from __future__ import annotations

from typing import Any

from gleaner.core.errors import ParameterError
from gleaner.core.models.base.registry import build

DEPTH = ("layers", "user_layers", "item_layers", "blocks")


def without_layers(family: str, params: dict[str, Any]) -> dict[str, Any]:
    """The parameters of a network without the layers that are named, and with one step where steps are counted, along a
    graph or of attention. Raises ParameterError where there are none, and where the family cannot do without them."""
    whole = build(family, params).params()
    in_use = whole.get("learner", "network") == "network"
    least: dict[str, Any] = {
        name: [] if isinstance(whole[name], list) else 1 for name in DEPTH if in_use and name in whole
    }
    less = {name: value for name, value in least.items() if whole[name] != value}
    if not less:
        raise ParameterError(f"without 'layers': {family} has none to leave out", where="without")
    try:
        build(family, params | less)
    except ParameterError as error:
        text = f"without 'layers': {family} cannot do without them: {error.message}"
        raise ParameterError(text, where="without") from None
    return params | less
