"""Files that jobs made, such as exports and lists. A file stays for as long as its job refers to it."""

from __future__ import annotations

from typing import Literal, NamedTuple

from sqlalchemy import Connection, insert, select, text, update

from gleaner.store.database.tables import job_files, jobs
from gleaner.store.files.artefacts import Artefact, record

Part = Literal["main", "left-out"]
RESULT_KEY: dict[Part, str] = {"main": "{file}", "left-out": "{left_out,file}"}
"""Where a job's result names the SHA-256 of each part."""


class JobFile(NamedTuple):
    """One file of a job."""

    job_id: int
    part: Part
    digest: str
    format: str
    dataset: str | None


def add(connection: Connection, job_id: int, part: Part, artefact: Artefact, dataset: str | None) -> None:
    """Record a file that is in place as a part of what a job made of a dataset."""
    record(connection, artefact)
    values = {"job_id": job_id, "part": part, "artefact": artefact.sha256, "dataset": dataset}
    connection.execute(insert(job_files).values(values))


def digest_of(connection: Connection, job_id: int, part: Part) -> str | None:
    """Return the SHA-256 of a job's file, or None where it has none."""
    of_part = (job_files.c.job_id == job_id) & (job_files.c.part == part)
    return connection.scalar(select(job_files.c.artefact).where(of_part))


def all_files(connection: Connection) -> list[JobFile]:
    """Return every file of every job."""
    form = text("coalesce(jobs.result->>'format', 'parquet') AS form")
    query = select(job_files, form).join(jobs, jobs.c.id == job_files.c.job_id).order_by(job_files.c.job_id)
    return [
        JobFile(row.job_id, row.part, row.artefact, "csv" if row.part == "left-out" else row.form, row.dataset)
        for row in connection.execute(query)
    ]


def replace(connection: Connection, file: JobFile, artefact: Artefact) -> None:
    """Refer to another file in place of one, in the job's result too."""
    record(connection, artefact)
    of_part = (job_files.c.job_id == file.job_id) & (job_files.c.part == file.part)
    connection.execute(update(job_files).where(of_part).values(artefact=artefact.sha256))
    renamed = text(
        "UPDATE jobs SET result = jsonb_set(result::jsonb, CAST(:path AS text[]), to_jsonb(CAST(:digest AS text)))"
        " WHERE id = :job"
    )
    path = RESULT_KEY[file.part]
    connection.execute(renamed, {"path": path, "digest": artefact.sha256, "job": file.job_id})
