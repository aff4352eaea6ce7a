"""Entry of the web process."""

from __future__ import annotations

import logging

import uvicorn

from gleaner.service.app import create_app
from gleaner.settings import Settings


def main() -> None:
    """Serve until told to stop."""
    logging.basicConfig(level=logging.INFO, format="%(asctime)s %(name)s %(levelname)s %(message)s")
    logging.getLogger("procrastinate").setLevel(logging.WARNING)
    settings = Settings()
    uvicorn.run(
        create_app(settings),
        host=settings.host,
        port=settings.port,
        log_level="warning",
        server_header=False,
        timeout_graceful_shutdown=5,
    )


if __name__ == "__main__":
    main()
