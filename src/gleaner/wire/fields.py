"""Fields that stand where none belongs: which one was meant, or where it belongs."""

from __future__ import annotations

from collections.abc import Iterator
from difflib import get_close_matches
from typing import Any, get_args

from pydantic import BaseModel, ValidationError

from gleaner.wire.common import Message, plain_message

DEEPEST = 6


def sentences(root: type[BaseModel], error: ValidationError) -> list[tuple[tuple[Any, ...], str]]:
    """Every mistake of a message with its path, in words."""
    return [(tuple(each["loc"]), sentence(root, dict(each))) for each in error.errors()]


def mistakes_of(error: ValidationError) -> list[tuple[str, str, Any]]:
    """The same where only the error is at hand: path with dots, sentence, and what was given."""
    root = next((each for each in _below(Message) if each.__name__ == error.title), Message)
    return [(".".join(map(str, each["loc"])), sentence(root, dict(each)), each["input"]) for each in error.errors()]


def _below(message: type[BaseModel]) -> Iterator[type[BaseModel]]:
    for each in message.__subclasses__():
        yield each
        yield from _below(each)


def sentence(root: type[BaseModel], error: dict[str, Any]) -> str:
    """What one of Pydantic's errors says. Of a field that does not belong: the one that was meant, or its place."""
    return misplaced(root, tuple(error["loc"])) if error["type"] == "extra_forbidden" else plain_message(error)


def misplaced(root: type[BaseModel], path: tuple[Any, ...]) -> str:
    """What is said of a field that is not known where it stands."""
    *outer, name = path
    name = str(name)
    around = _at(root, tuple(outer)) or root
    known = list(_names(around))
    near = get_close_matches(name, known, 1)
    if near:
        return f"there is no field {name!r} here; did you mean {near[0]!r}?"
    places = [place for place in dict.fromkeys(_places(root, name)) if place != ".".join(map(str, path))]
    if places:
        where = " or ".join("at the top" if "." not in place else f"as {place}" for place in places[:3])
        return f"{name!r} does not belong here, but {where}"
    return f"there is no field {name!r} here; there are: {', '.join(known)}"


def _names(message: type[BaseModel]) -> Iterator[str]:
    for name, field in message.model_fields.items():
        yield field.alias or name


def _messages(annotation: Any) -> list[type[BaseModel]]:
    """The messages that an annotation names, inside of lists and choices too."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [each for part in get_args(annotation) for each in _messages(part)]


def _at(root: type[BaseModel], path: tuple[Any, ...]) -> type[BaseModel] | None:
    """The message that stands at a path; None where it cannot be told."""
    now = root
    for step in path:
        field = next((f for n, f in now.model_fields.items() if (f.alias or n) == step), None)
        if field is None:
            continue
        inner = _messages(field.annotation)
        if not inner:
            return None
        now = inner[0]
    return now


def _places(root: type[BaseModel], name: str, before: str = "", deep: int = 0) -> Iterator[str]:
    """Where a field of this name belongs, with dots."""
    for own, field in root.model_fields.items():
        known = field.alias or own
        if known == name:
            yield f"{before}{name}"
        if deep < DEEPEST:
            for inner in _messages(field.annotation):
                if inner is not root:
                    yield from _places(inner, name, f"{before}{known}.", deep + 1)
