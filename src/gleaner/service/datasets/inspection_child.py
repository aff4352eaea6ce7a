"""The process that looks into files before they are imported: whatever a workbook or an archive unpacks to, it stays in
here. Started by `proposals`."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from gleaner.core.errors import GleanerError
from gleaner.service.datasets.confinement import confine
from gleaner.service.datasets.file_inspection import look
from gleaner.settings import Settings
from gleaner.wire.imports import ProposalRequest


def outcome_of(asked: dict[str, Any]) -> dict[str, Any]:
    """The proposal, or what is wrong and where."""
    confine(memory_mb=asked["memory_mb"], seconds=asked["seconds"], threads=2)
    try:
        request = ProposalRequest.model_validate(asked["request"])
        settings = Settings.model_validate(asked["settings"])
        proposal = look(settings, Path.cwd(), request, anywhere=asked["anywhere"])
        return {"proposal": proposal.model_dump(mode="json")}
    except GleanerError as error:
        return {"error": error.message, "where": error.where}
    except MemoryError:
        return {"error": f"looking into it needs more than {asked['memory_mb']} MB", "where": "interactions"}
