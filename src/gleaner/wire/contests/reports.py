"""Reports of contests."""

from __future__ import annotations

from pydantic import Field

from gleaner.wire.common import Message


class ReportParts(Message):
    """What a report of a run can be taken apart into."""

    run: str
    plots: dict[str, str] = Field(description="Captions by name.")
    tables: list[str]
