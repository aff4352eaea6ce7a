"""Parameters of families: a default, and in a few words what it means. A family that changes the default keeps them."""

from __future__ import annotations

from dataclasses import MISSING, dataclass, field, fields
from typing import Any

MEANING = "meaning"


def parameter(default: Any, meaning: str) -> Any:
    """A parameter of a family. A default that is a list is made anew for each model."""
    metadata = {MEANING: meaning}
    if isinstance(default, list):
        return field(default_factory=lambda: [*default], metadata=metadata)
    return field(default=default, metadata=metadata)


@dataclass(frozen=True)
class ParameterFacts:
    """One parameter as it is described: its name, its default as a JSON value, and what it means."""

    name: str
    default: Any
    meaning: str


def parameters_of(family: type) -> list[ParameterFacts]:
    """The parameters of a family, in the order in which its class declares them."""
    return [
        ParameterFacts(each.name, _default(each), _meaning(family, each.name)) for each in fields(family) if each.init
    ]


def _default(each: Any) -> Any:
    return each.default if each.default is not MISSING else each.default_factory()


def _meaning(family: type, name: str) -> str:
    """What the class says, or else the nearest of those it inherits from."""
    for each in family.__mro__:
        declared = each.__dict__.get("__dataclass_fields__", {}).get(name)
        if declared is not None and MEANING in declared.metadata:
            return str(declared.metadata[MEANING])
    return ""
