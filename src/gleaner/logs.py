"""Logs as JSON, one object a line: when, what, and which request or job it belongs to."""

from __future__ import annotations

import json
import logging
import sys
from contextvars import ContextVar
from datetime import UTC, datetime
from typing import Any

request_id: ContextVar[str | None] = ContextVar("request_id", default=None)
"""Of the request that is being answered."""

STANDARD = frozenset(vars(logging.makeLogRecord({}))) | {"message", "asctime", "taskName"}


class JsonLines(logging.Formatter):
    """`at`, `level`, `logger`, `message`, `request_id` where there is one, what `extra` names, and a traceback."""

    def format(self, record: logging.LogRecord) -> str:
        """One line."""
        line: dict[str, Any] = {
            "at": datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds"),
            "level": record.levelname.lower(),
            "logger": record.name,
            "message": record.getMessage(),
        }
        if (id := request_id.get()) is not None:
            line["request_id"] = id
        line |= {name: value for name, value in vars(record).items() if name not in STANDARD}
        if record.exc_info:
            line["traceback"] = self.formatException(record.exc_info)
        return json.dumps(line, default=str, ensure_ascii=False)


def set_up() -> None:
    """Have everything of this process logged so, on standard error."""
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(JsonLines())
    logging.basicConfig(level=logging.INFO, handlers=[handler], force=True)
    logging.getLogger("procrastinate").setLevel(logging.WARNING)
