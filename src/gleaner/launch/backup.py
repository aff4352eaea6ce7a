"""Everything a Gleaner holds, copied out and put back: the records as a dump of PostgreSQL, the artefacts as they are.

A backup is a folder: `manifest.json`, `records.dump` (pg_dump's custom format) and `artefacts/` with each file under
its SHA-256. It is written beside its place and renamed when it is whole.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from pathlib import Path
from urllib.parse import unquote, urlsplit

import psycopg

from gleaner import __version__
from gleaner.core.errors import DataError
from gleaner.launch import private
from gleaner.launch.postgres import Cluster, PostgresError, program
from gleaner.settings import Settings
from gleaner.store.files.artefacts import ArtefactStore, sha256_of

MANIFEST, RECORDS, ARTEFACTS = "manifest.json", "records.dump", "artefacts"
TRIES = 3
ReportProgress = Callable[[str], None]


@dataclass(frozen=True)
class Manifest:
    """What a backup holds. artefacts: bytes by SHA-256."""

    gleaner: str
    made_at: str
    schema: str
    records_sha256: str
    artefacts: dict[str, int]


def back_up(settings: Settings, out: Path, report_progress: ReportProgress) -> Manifest:
    """Write a backup of a Gleaner, running or not. Raises DataError when the place is taken or a file is damaged."""
    if out.exists():
        raise DataError(f"{out} is there already; name another folder", where="out")
    os.umask(private.PRIVATE)
    beside = out.with_name(f".{out.name}.{os.getpid()}.part")
    with _database(settings) as url:
        store = ArtefactStore(settings.artefact_root, settings.home / "cache")
        try:
            for left in reversed(range(TRIES)):
                shutil.rmtree(beside, ignore_errors=True)
                (beside / ARTEFACTS).mkdir(parents=True)
                try:
                    manifest = _copied(url, store, beside, report_progress)
                    break
                except DataError:
                    # a file that was removed after the dump, with its row: what is there now is dumped again
                    if not left:
                        raise
            (beside / MANIFEST).write_text(json.dumps(asdict(manifest), indent=2), encoding="utf-8")
            beside.rename(out)
        finally:
            shutil.rmtree(beside, ignore_errors=True)
    return manifest


def _copied(url: str, store: ArtefactStore, folder: Path, report_progress: ReportProgress) -> Manifest:
    report_progress("records")
    dump = folder / RECORDS
    _run("pg_dump", url, "--format=custom", "--no-owner", f"--file={dump}")
    with psycopg.connect(url) as connection:
        rows = connection.execute("SELECT sha256, bytes FROM artefacts ORDER BY sha256").fetchall()
        schema = connection.execute("SELECT version_num FROM alembic_version").fetchone()
    for place, (digest, _) in enumerate(rows, start=1):
        report_progress(f"artefacts, {place:,} of {len(rows):,}")
        to = folder / ARTEFACTS / digest
        shutil.copyfile(store.local_path(digest), to)
        if sha256_of(to) != digest:
            raise DataError(f"artefact {digest[:12]} is damaged: its bytes do not match its hash", where=digest)
    made_at = datetime.now(UTC).isoformat(timespec="seconds")
    return Manifest(__version__, made_at, schema[0] if schema else "", sha256_of(dump), dict(rows))


def put_back(settings: Settings, folder: Path, report_progress: ReportProgress) -> Manifest:
    """Put a backup into a Gleaner that holds nothing and does not run. Everything is checked first.

    Raises DataError when the backup is not whole, or there is something where it would go.
    """
    manifest = checked(folder, report_progress)
    with _database(settings, only_stopped=True) as url:
        with psycopg.connect(url) as connection:
            existing = connection.execute("SELECT to_regclass('public.datasets')").fetchone()
        if existing is not None and existing[0] is not None:
            raise DataError(f"{settings.home} holds records already; restore into an empty state folder", where="home")
        store = ArtefactStore(settings.artefact_root, settings.home / "cache")
        staging = settings.home.resolve() / "restoring"
        staging.mkdir(parents=True, exist_ok=True)
        # files first, rows last: a restore that is cut off can be begun again
        for place, digest in enumerate(manifest.artefacts, start=1):
            report_progress(f"artefacts, {place:,} of {len(manifest.artefacts):,}")
            copy = staging / digest
            shutil.copyfile(folder / ARTEFACTS / digest, copy)
            store.put(copy, "")
        shutil.rmtree(staging)
        report_progress("records")
        _run("pg_restore", url, "--no-owner", "--exit-on-error", "--single-transaction", str(folder / RECORDS))
    return manifest


def checked(folder: Path, report_progress: ReportProgress) -> Manifest:
    """The manifest of a backup that is whole. Raises DataError naming what is missing or damaged."""
    try:
        manifest = Manifest(**json.loads((folder / MANIFEST).read_text(encoding="utf-8")))
    except (OSError, ValueError, TypeError) as error:
        raise DataError(f"{folder} is no backup: its {MANIFEST} cannot be read ({error})", where="folder") from error
    files = {RECORDS: manifest.records_sha256} | {f"{ARTEFACTS}/{digest}": digest for digest in manifest.artefacts}
    for place, (name, digest) in enumerate(files.items(), start=1):
        report_progress(f"checking, {place:,} of {len(files):,}")
        path = folder / name
        if not path.exists():
            raise DataError(f"the backup is not whole: {name} is missing", where=name)
        if sha256_of(path) != digest:
            raise DataError(f"the backup is damaged: {name} does not match its hash", where=name)
    return manifest


@contextmanager
def _database(settings: Settings, *, only_stopped: bool = False) -> Iterator[str]:
    """The URL of the database: the one set, that of a Gleaner that runs, or of our cluster, started for this."""
    if settings.database_url:
        yield settings.database_url
        return
    cluster = Cluster(settings.home)
    if (port := cluster.running_port()) is not None:
        if only_stopped:
            raise DataError(f"a Gleaner runs on {settings.home}; stop it first", where="home")
        cluster.port = port
        yield cluster.url
        return
    cluster.start()
    try:
        yield cluster.url
    finally:
        cluster.stop()


def _run(name: str, url: str, *arguments: str) -> None:
    """A program of PostgreSQL's; the password goes by its environment, where other users do not see it."""
    parts = urlsplit(url)
    place = {"PGHOST": parts.hostname or "", "PGPORT": str(parts.port or 5432), "PGDATABASE": parts.path.lstrip("/")}
    who = {"PGUSER": unquote(parts.username or ""), "PGPASSWORD": unquote(parts.password or "")}
    given = list(arguments)
    if name == "pg_restore":
        given.insert(0, f"--dbname={place['PGDATABASE']}")
    done = subprocess.run(
        [program(name), *given], env=os.environ | place | who, capture_output=True, text=True, check=False
    )
    if done.returncode:
        raise PostgresError(f"{name} failed: {done.stderr.strip()}")
