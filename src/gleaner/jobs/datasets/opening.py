"""From a source as a request names it to one that can be read: fetched, its format known, reshaped where it must be."""

from __future__ import annotations

import zipfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from urllib.parse import urlsplit

from gleaner.core.errors import DataError
from gleaner.jobs.datasets.sources.base import TableSource
from gleaner.jobs.datasets.sources.columnar import ArrowSource, ParquetSource
from gleaner.jobs.datasets.sources.database import copy_query, is_database
from gleaner.jobs.datasets.sources.delimited import DelimitedSource
from gleaner.jobs.datasets.sources.documents import JsonLinesSource, JsonSource
from gleaner.jobs.datasets.sources.fetch import CallerReach, fetch
from gleaner.jobs.datasets.sources.places import AllowedPlaces, without_secrets
from gleaner.jobs.datasets.sources.reshape import LongSource, WideSource
from gleaner.jobs.datasets.sources.spreadsheet import SheetSource
from gleaner.settings import Settings
from gleaner.wire import imports as wire

SUFFIXES = {
    ".csv": "csv", ".tsv": "csv", ".tab": "csv", ".txt": "csv", ".dat": "csv", ".data": "csv",
    ".parquet": "parquet", ".pq": "parquet", ".arrow": "arrow", ".feather": "arrow", ".ipc": "arrow",
    ".ndjson": "ndjson", ".jsonl": "ndjson", ".json": "json", ".xlsx": "xlsx", ".xlsm": "xlsx",
}  # fmt: skip
LOOK_BYTES, LOOK_S = 64 << 20, 10.0
READ_WHOLE = ("json", "xlsx")
PACKED = (".gz", ".gzip", ".zst", ".zstd")


@dataclass(frozen=True)
class SourceOpener:
    """Opens sources for one piece of work. `folder` takes what is fetched; `report_progress` receives what is being
    done.

    look: only the first so many rows are wanted, at once. Then a database gives no more, and what would have to be read
    whole to look into it is refused when it is large. anywhere: whether the caller may read any URL.
    """

    settings: Settings
    folder: Path
    report_progress: Callable[[str], None]
    look: int | None = None
    anywhere: bool = False

    @property
    def reach(self) -> CallerReach:
        """Where the caller may read."""
        return CallerReach(AllowedPlaces.read(self.settings.sources, "SOURCE"), self.anywhere)

    def open(self, spec: wire.Source, place: str, user: str | None = None) -> TableSource:
        """A source ready to be read. `user`: the user column, needed for a wide table. Raises DataError."""
        if spec.url is not None and is_database(spec.url):
            return self._database(spec, place)
        name, path = self._local(spec, place)
        if self.look is not None and path.stat().st_size > LOOK_BYTES and _format(spec, name, path) in READ_WHOLE:
            raise DataError(
                f"{name} is too large to look into; name the columns that play a role, and import it", where=name
            )
        source = _opened(spec, name, path)
        if spec.wide:
            if user is None:
                raise DataError(
                    "a wide table holds interactions; items and users are read one a row", where=f"{place}.wide"
                )
            return WideSource(source.name, source, user, spec.across or None)
        return _of_rows(source, place)

    def _local(self, spec: wire.Source, place: str) -> tuple[str, Path]:
        if spec.upload is not None:
            path = self.settings.uploads / spec.upload
            if not path.exists():
                raise DataError(f"upload {spec.upload} is gone; send {spec.file} again", where=spec.file)
            return spec.file, path
        assert spec.url is not None
        name = PurePosixPath(urlsplit(spec.url).path).name or place
        path = self.folder / f"{place}.fetched"
        shown = without_secrets(spec.url)
        self.report_progress(f"fetching {shown}")
        most = self.settings.max_upload_bytes if self.look is None else LOOK_BYTES
        fetch(spec.url, name, path, most,
              lambda share: self.report_progress(f"fetching {shown}" + (f", {share:.0%}" if share else "")),
              self.reach)  # fmt: skip
        return name, path

    def _database(self, spec: wire.Source, place: str) -> TableSource:
        assert spec.url is not None
        name = f"{without_secrets(spec.url)} {spec.table or 'query'}"
        path = self.folder / f"{place}.copied"
        self.report_progress(f"querying {name}")
        copy_query(
            spec.url,
            name,
            path,
            table=spec.table,
            query=spec.query,
            timeout_s=self.settings.source_timeout_s if self.look is None else LOOK_S,
            first=self.look,
            max_bytes=self.settings.max_upload_bytes,
            reach=self.reach,
            on_bytes=lambda size: self.report_progress(f"querying {name}: {size / 1e6:.0f} MB"),
        )
        source = DelimitedSource(name, path, separator=",")
        source.format = "database"
        source.details = {"table": spec.table} if spec.table else {"query": spec.query or ""}
        return _of_rows(source, place)


def _of_rows(source: TableSource, place: str) -> TableSource:
    """Lists become rows among interactions; in an item or user table they are lists of categories."""
    return LongSource(source.name, source) if place.startswith(("interactions", "parts")) else source


def _format(spec: wire.Source, name: str, path: Path) -> str:
    return spec.format or format_of(name, path)


def _opened(spec: wire.Source, name: str, path: Path) -> TableSource:
    kind = _format(spec, name, path)
    if kind == "parquet":
        return ParquetSource(name, path)
    if kind == "arrow":
        return ArrowSource(name, path)
    if kind == "xlsx":
        return SheetSource(name, path, spec.sheet, spec.header)
    if kind == "ndjson":
        return JsonLinesSource(name, path)
    if kind == "json":
        return JsonSource(name, path)
    separator = "\t" if spec.separator in ("\\t", "tab") else spec.separator
    return DelimitedSource(name, path, separator, spec.header, spec.quotes)


def _names_in_zip(name: str, path: Path) -> list[str]:
    try:
        with zipfile.ZipFile(path) as archive:
            return archive.namelist()
    except (zipfile.BadZipFile, NotImplementedError, UnicodeDecodeError, OSError) as error:
        text = f"{name} is a workbook or another zip archive, and damaged: {error}"
        raise DataError(text, where=name) from error


def format_of(name: str, path: Path) -> str:
    """The format by the file's first bytes where they are plain, else by its name, else CSV."""
    with path.open("rb") as file:
        start = file.read(6)
    if start.startswith(b"PAR1"):
        return "parquet"
    if start == b"ARROW1":
        return "arrow"
    if start.startswith(b"PK") and zipfile.is_zipfile(path):
        if "xl/workbook.xml" in _names_in_zip(name, path):
            return "xlsx"
        raise DataError(f"{name} is a zip archive; unpack it, or pack single files with gzip or zstd", where=name)
    lowered = name.lower()
    for packed in PACKED:
        lowered = lowered.removesuffix(packed)
    return SUFFIXES.get(PurePosixPath(lowered).suffix, "csv")
