"""A shelf's file with other models in it, and otherwise as it was written: comments, quotes, breaks of lines."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from ruamel.yaml import YAML
from ruamel.yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

PARTS = ("candidates", "score", "fallback")
"""Where a shelf's file names models."""


def renamed_file(text: str, names: Mapping[str, str]) -> str:
    """The text with new names in the places of old ones. Names are those that the file's entries are: `als@1` is no
    part of `als@12`, and what a title or a comment says stays."""
    places = [
        (node.start_mark.index, node.end_mark.index, names[node.value])
        for key, value in YAML(typ="rt").compose(text).value
        if key.value in PARTS
        for node in _scalars(value)
        if node.value in names
    ]
    for begin, end, name in sorted(places, reverse=True):
        text = text[:begin] + name + text[end:]
    return text


def _scalars(node: Node) -> Iterator[ScalarNode]:
    if isinstance(node, ScalarNode):
        yield node
    for part in node.value if isinstance(node, (MappingNode, SequenceNode)) else ():
        for each in part if isinstance(part, tuple) else (part,):
            yield from _scalars(each)
