"""Files for other systems, as calls."""

from __future__ import annotations

from gleaner.client.call import Call
from gleaner.wire.exports import ExportRequest
from gleaner.wire.jobs import Job


def export(request: ExportRequest) -> Call[Job]:
    """Write a file; `job_calls.job_file` fetches it when the job is done."""
    return Call("POST", "/v1/exports", Job, body=request)
