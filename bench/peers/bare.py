"""A bare endpoint of the same framework on the same server, which answers the same bytes to everybody."""

from __future__ import annotations

import sys
from pathlib import Path

import uvicorn
from fastapi import FastAPI, Response


def main() -> None:
    """bare.py FILE PORT: answer every GET of /bare with the file's bytes."""
    body = Path(sys.argv[1]).read_bytes()
    app = FastAPI()

    @app.get("/bare")
    async def bare(user: str) -> Response:
        return Response(body, media_type="application/json")

    uvicorn.run(app, host="127.0.0.1", port=int(sys.argv[2]), log_level="warning", access_log=False)


if __name__ == "__main__":
    main()
