"""Jobs, as calls."""

from __future__ import annotations

from gleaner.client.call import Call, get
from gleaner.wire.common import Page
from gleaner.wire.jobs import Job, JobDetail, JobKind, JobState


def list_jobs(
    after: str | None = None, limit: int | None = None, state: JobState | None = None, kind: JobKind | None = None
) -> Call[Page[Job]]:
    """Jobs, of one state or kind where these are given, newest first."""
    return get("/v1/jobs", Page[Job], after=after, limit=limit, state=state.value if state else None, kind=kind)


def job(job_id: int) -> Call[JobDetail]:
    """One job with its log."""
    return get(f"/v1/jobs/{job_id}", JobDetail)


def cancel_job(job_id: int) -> Call[Job]:
    """Ask a job to stop."""
    return Call("POST", f"/v1/jobs/{job_id}/cancel", Job)


def job_file(job_id: int, part: str | None = None) -> Call[bytes]:
    """The file a job made; with the part `left-out` the list of who an export leaves out, as CSV."""
    return get(f"/v1/jobs/{job_id}/file", bytes, part=part)
