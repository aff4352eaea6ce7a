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
from gleaner.store.files.artefacts import IS_DIGEST, ArtefactStore, sha256_of
from gleaner.store.files.pins import removals_held

MANIFEST, RECORDS, ARTEFACTS = "manifest.json", "records.dump", "artefacts"
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
    """Write a backup of a Gleaner, running or not. Raises DataError when the path is taken or a file is damaged."""
    if out.exists():
        raise DataError(f"{out} is there already; name another folder", where="out")
    os.umask(private.PRIVATE)
    beside = out.with_name(f".{out.name}.{os.getpid()}.part")
    with _database(settings) as url:
        store = ArtefactStore(settings.artefact_root, settings.home / "cache")
        try:
            shutil.rmtree(beside, ignore_errors=True)
            (beside / ARTEFACTS).mkdir(parents=True)
            with removals_held(url):
                manifest = _copy(url, store, beside, report_progress)
            (beside / MANIFEST).write_text(json.dumps(asdict(manifest), indent=2), encoding="utf-8")
            _sync_tree(beside)
            beside.rename(out)
        finally:
            shutil.rmtree(beside, ignore_errors=True)
    return manifest


def _copy(url: str, store: ArtefactStore, folder: Path, report_progress: ReportProgress) -> Manifest:
    """Dump the records and copy every file that they name, both as of one snapshot of the database.

    Raises DataError where a file is missing or damaged, or the dump names one that was not copied.
    """
    dump = folder / RECORDS
    with psycopg.connect(url) as connection:
        connection.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ READ ONLY")
        snapshot = connection.execute("SELECT pg_export_snapshot()").fetchone()
        assert snapshot is not None
        rows = connection.execute("SELECT sha256, bytes FROM artefacts ORDER BY sha256").fetchall()
        schema = connection.execute("SELECT version_num FROM alembic_version").fetchone()
        report_progress("records")
        _run("pg_dump", url, "--format=custom", "--no-owner", f"--snapshot={snapshot[0]}", f"--file={dump}")
    for number, (digest, _) in enumerate(rows, start=1):
        report_progress(f"artefacts, {number:,} of {len(rows):,}")
        copy = folder / ARTEFACTS / digest
        shutil.copyfile(store.local_path(digest), copy)
        if sha256_of(copy) != digest:
            raise DataError(f"artefact {digest[:12]} is damaged: its bytes do not match its hash", where=digest)
    missing = _named_by_dump(dump) - {digest for digest, _ in rows}
    if missing:
        raise DataError(f"the dump names {len(missing)} files that were not copied; run the backup again", where="out")
    made_at = datetime.now(UTC).isoformat(timespec="seconds")
    return Manifest(__version__, made_at, schema[0] if schema else "", sha256_of(dump), dict(rows))


def _named_by_dump(dump: Path) -> set[str]:
    """Return the files that a dump names, read from the dump itself."""
    done = subprocess.run(
        [program("pg_restore"), "--data-only", "--table=artefacts", "--file=-", str(dump)],
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode:
        raise PostgresError(f"pg_restore cannot read the dump: {done.stderr.strip()}")
    first_cells = (line.partition("\t")[0] for line in done.stdout.splitlines())
    return {cell for cell in first_cells if IS_DIGEST.match(cell)}


def _sync_tree(folder: Path) -> None:
    """Write a folder's files and names to the disk."""
    for path in [*folder.rglob("*"), folder]:
        handle = os.open(path, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


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
