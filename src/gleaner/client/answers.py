"""Answers of a service that may be newer than this client."""

from __future__ import annotations

from typing import Any

from pydantic import TypeAdapter, ValidationError

from gleaner.client.errors import NotUnderstoodError


def understood(kind: Any, content: str | bytes, of: str) -> Any:
    """An answer as its type. Fields that are not known here are passed over: a newer service may answer with more.
    Raises NotUnderstoodError, naming the field, for what cannot be read all the same."""
    adapter = TypeAdapter(kind)
    try:
        return adapter.validate_json(content)
    except ValidationError:
        pass
    try:
        return adapter.validate_json(content, extra="ignore")
    except ValidationError as error:
        first = error.errors(include_url=False, include_input=False)[0]
        where = ".".join(map(str, first["loc"])) or "the whole"
        raise NotUnderstoodError(
            f"{of} was answered with what this client does not know: {where}: {first['msg']}"
        ) from error
