"""A page of records."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Generic, TypeVar

T = TypeVar("T")


@dataclass(frozen=True)
class RecordPage(Generic[T]):
    """Some records in order. next: the cursor of the following page, None on the last one."""

    items: list[T]
    next: str | None = None
