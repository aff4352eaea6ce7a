"""The data that comes with the package, imported at one call."""

from __future__ import annotations

import secrets
import tempfile
from pathlib import Path

from sqlalchemy import Connection

from gleaner.core.errors import ConflictError, UnknownNameError
from gleaner.demo.shipped import DATASET, ROLES, TABLES, unpack
from gleaner.service.http.state import Service
from gleaner.settings import Settings
from gleaner.store import datasets, jobs
from gleaner.store.database.queue import submit
from gleaner.wire.imports import ImportRequest, Source
from gleaner.wire.jobs import Job


def bring_example(service: Service, connection: Connection) -> Job:
    """Queue the import of the example. Raises ConflictError where a dataset of its name is here or on its way."""
    if jobs.open_already(connection, "import", DATASET):
        raise ConflictError(f"data of the name {DATASET} is being imported already")
    try:
        newest = datasets.newest(connection, DATASET)
    except UnknownNameError:
        pass
    else:
        raise ConflictError(f"the data of the example is here, or other data of its name: {newest.name}")
    request = ImportRequest(roles=ROLES, **{part: _upload(service.settings, file) for part, file in TABLES.items()})
    job_id = submit(connection, service.queue, "import", DATASET, request.model_dump(mode="json"))
    return Job.of_record(jobs.get(connection, job_id))


def _upload(settings: Settings, file: str) -> Source:
    """A shipped file as if it had been sent."""
    name = f"u-{secrets.token_hex(8)}"
    with tempfile.TemporaryDirectory(dir=settings.staging) as folder:
        unpack(file, Path(folder)).rename(settings.uploads / name)
    return Source(upload=name, file=file)
