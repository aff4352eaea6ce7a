"""Lists made elsewhere."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Literal


@dataclass(frozen=True, kw_only=True)
class ListWorkRecord:
    """Lists that a job scored or analysed. label: what they are called. beside: the run they were looked at beside."""

    job: int
    work: Literal["scores", "analysis"]
    label: str
    data: str
    beside: str | None
    users: int
    ended_at: datetime
