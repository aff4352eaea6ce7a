"""`python -m gleaner.service.http.describe` prints the OpenAPI description, without a database."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path
from typing import Any

from gleaner.service.http.app import create_app
from gleaner.settings import Settings


def description() -> dict[str, Any]:
    """The OpenAPI document of this code."""
    with tempfile.TemporaryDirectory() as folder:
        settings = Settings(home=Path(folder), database_url="postgresql://nobody@127.0.0.1:1/none")
        app = create_app(settings)
        document = app.openapi()
        app.state.service.close()
        return document


if __name__ == "__main__":
    print(json.dumps(description(), indent=1))  # noqa: T201 - printing is its work
