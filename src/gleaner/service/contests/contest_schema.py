"""The JSON Schema of a contest file as people write it, short forms included."""

from __future__ import annotations

from typing import Any

from gleaner.core.metrics.catalogue import METRICS
from gleaner.core.models.base.registry import FAMILIES
from gleaner.wire.common import NAME_PATTERN
from gleaner.wire.contests.contest import ContestSpec

TYPES = {bool: "boolean", int: "integer", float: "number", str: "string", list: "array"}


def contest_schema() -> dict[str, Any]:
    """Draft 2020-12. Ranges of parameters and what depends on the data are for `contest check`."""
    schema = ContestSpec.model_json_schema()
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    schema["title"] = "A contest file"
    schema["properties"]["contenders"] = {
        "type": "array",
        "minItems": 1,
        "maxItems": 200,
        "items": {"anyOf": [{"enum": list(FAMILIES)}, *[_long_form(name) for name in FAMILIES]]},
    }
    definitions = schema["$defs"]
    del definitions["ContenderSpec"]
    definitions["RankSpec"]["properties"]["metrics"]["items"] = {"enum": list(METRICS)}
    definitions["TransformSpec"] = {
        "anyOf": [
            {"const": "log1p"},
            _only({"cap": {"type": "number"}}),
            _only({"confidence": {"type": "number"}}),
            _only({"rescale": {"type": "array", "items": {"type": "number"}, "minItems": 2, "maxItems": 2}}),
        ]
    }
    return schema


def _long_form(name: str) -> dict[str, Any]:
    """`als: {rank: 64}`, with `as: name` and more beside it."""
    params = {key: _typed(value) for key, value in FAMILIES[name]().params().items()}
    given = {"type": ["object", "null"], "properties": params, "additionalProperties": False}
    properties = {
        name: given,
        "as": {"type": "string", "pattern": NAME_PATTERN},
        "prepare": {"$ref": "#/$defs/PrepareSpec"},
        "tune": {"$ref": "#/$defs/TuneSpec"},
        "without": {"type": "array", "items": {"type": "string"}},
    }
    return {"type": "object", "properties": properties, "required": [name], "additionalProperties": False}


def _only(properties: dict[str, Any]) -> dict[str, Any]:
    return {"type": "object", "properties": properties, "required": list(properties), "additionalProperties": False}


def _typed(default: Any) -> dict[str, Any]:
    """A parameter by its default, or a range of it: whole numbers may stand for any number."""
    kind = TYPES.get(type(default))
    if kind is None:
        return {"default": default}
    ranges = [_CHOICE, _BETWEEN] if kind in ("integer", "number") else [_CHOICE]
    return {"default": default, "anyOf": [{"type": kind}, *ranges]}


_CHOICE = _only({"choose": {"type": "array", "minItems": 1}})
_BETWEEN = {
    "type": "object",
    "properties": {
        "between": {"type": "array", "items": {"type": "number"}, "minItems": 2, "maxItems": 2},
        "log": {"type": "boolean"},
        "step": {"type": "number", "exclusiveMinimum": 0},
    },
    "required": ["between"],
    "additionalProperties": False,
}
