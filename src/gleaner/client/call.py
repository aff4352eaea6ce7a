"""A call as a typed value. Nothing here touches the network."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Generic, TypeVar
from urllib.parse import quote

from pydantic import BaseModel

from gleaner.client.answers import understood

T = TypeVar("T")
QUERY_TIMEOUT_S = 900.0
"""The service bounds queries itself, and says so; the client waits for what it says."""


@dataclass(frozen=True)
class Call(Generic[T]):
    """One request and the type of its answer. `safe` calls change nothing and may be repeated."""

    method: str
    path: str
    answer: Any
    query: dict[str, Any] = field(default_factory=dict)
    body: BaseModel | None = None
    file: Path | None = None
    on_sent: Callable[[int], None] | None = None
    idempotency_key: str | None = None
    repeatable: bool = False
    timeout_s: float | None = None

    @property
    def safe(self) -> bool:
        """Whether a repeat can do no harm."""
        return self.method == "GET" or self.repeatable or self.idempotency_key is not None

    def read(self, content: bytes) -> T:
        """The answer's body as its type; a file's bytes as they are."""
        if self.answer is bytes:
            return content  # type: ignore[return-value]
        return understood(self.answer, content, f"{self.method} {self.path}")


def get(path: str, answer: Any, **query: Any) -> Call[Any]:
    """A GET call; parameters that are None are left out of the query."""
    return Call("GET", path, answer, {name: value for name, value in query.items() if value is not None})


def quoted(text: str) -> str:
    """A name as part of a path."""
    return quote(text, safe="@")
