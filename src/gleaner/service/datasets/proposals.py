"""Looking into files before they are imported, in a confined process (see inspection_child). Nothing is kept."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

from gleaner.core.errors import DataError
from gleaner.service.datasets import confined
from gleaner.service.http.state import Service
from gleaner.wire.imports import Proposal, ProposalRequest

LOOK_S = 30.0
"""What looking may take of the processors."""
WAIT_S = 120.0
"""How long a caller waits for it at most: a busy machine gives such a process a part of its processors only."""
MEMORY_MB = 1024
NEEDED = {"home", "sources", "source_timeout_s", "max_upload_bytes"}
"""Of the settings; the rest, with its secrets, is not for a process that reads what anybody sent."""


def propose(service: Service, request: ProposalRequest, *, anywhere: bool) -> Proposal:
    """Roles for the interactions, types for the tables, each with its reason.

    anywhere: whether the caller may read any URL. Raises DataError as an import would, InputError when looking takes
    too long or too much, UnavailableError while too many look.
    """
    settings = service.settings
    payload = {
        "request": request.model_dump(mode="json"),
        "settings": settings.model_dump(mode="json", include=NEEDED),
        "anywhere": anywhere,
        "memory_mb": MEMORY_MB,
        "seconds": LOOK_S,
    }
    places = confined.acquire()
    try:
        with tempfile.TemporaryDirectory(prefix=f"look-{os.getpid()}-", dir=settings.staging) as folder:
            outcome = confined.run(
                "gleaner.service.datasets.inspection_child",
                payload,
                Path(folder),
                seconds=WAIT_S,
                what="looking into it",
                where="interactions",
                memory_mb=MEMORY_MB,
                environment=confined.source_secrets(),
            )
    finally:
        places.release()
    if "error" in outcome:
        raise DataError(outcome["error"], where=outcome["where"])
    return Proposal.model_validate(outcome["proposal"])
