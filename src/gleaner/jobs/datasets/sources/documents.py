"""NDJSON and JSON: objects, whose lists become rows later (see reshape)."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import polars as pl

from gleaner.core.errors import DataError
from gleaner.jobs.datasets.sources.base import Batch, OnBatch, TableSource, excerpt
from gleaner.jobs.datasets.sources.streams import TextStream

READ_BYTES = 1 << 20
MAX_LINE = 64 << 20
MAX_DOCUMENT = 256 << 20
MAX_DEPTH = 20


@dataclass
class JsonLinesSource(TableSource):
    """One object a line. Numbers keep their digits as text where they are ids; lines are counted from 1."""

    path: Path

    def __post_init__(self) -> None:
        self.format, self.row_word = "ndjson", "line"
        if self.path.stat().st_size == 0:
            raise DataError(f"{self.name} is empty", where=self.name)
        first: list[tuple[int, dict[str, Any]]] = []
        for objects in self._objects(lambda _: None):
            first += objects
            if len(first) >= 1000:
                break
        self.columns = list(dict.fromkeys(path for _, each in first for path in paths_of(each)))

    def batches(self, columns: list[str], on_batch: OnBatch) -> Iterator[Batch]:
        """Yield batches; each column is text, or lists of text where the object holds a list."""
        for objects in self._objects(on_batch):
            if objects:
                yield _batch(self, objects, columns)

    def _objects(self, on_batch: OnBatch) -> Iterator[list[tuple[int, dict[str, Any]]]]:
        stream, rest, line = TextStream(self.path, self.name), b"", 0
        try:
            while data := stream.read(READ_BYTES):
                lines = (rest + data).split(b"\n")
                rest = lines.pop()
                if len(rest) > MAX_LINE:
                    raise DataError(f"{self.at(line + 1)} is longer than {MAX_LINE >> 20} MB", where=self.at(line + 1))
                yield self._parsed(lines, line)
                line += len(lines)
                on_batch(stream.done)
            if rest.strip():
                yield self._parsed([rest], line)
        finally:
            stream.close()

    def _parsed(self, lines: list[bytes], before: int) -> list[tuple[int, dict[str, Any]]]:
        parsed = []
        for number, text in enumerate(lines, before + 1):
            if not text.strip():
                continue
            parsed.append((number, _object(_loads(text, self.at(number)), self.at(number))))
        return parsed


@dataclass
class JsonSource(TableSource):
    """One document: a list of objects, or one object whose keys are users and whose values are lists of items."""

    path: Path

    def __post_init__(self) -> None:
        self.format, self.row_word = "json", "entry"
        stream = TextStream(self.path, self.name)
        try:
            data = bytearray()
            while chunk := stream.read(READ_BYTES):
                data += chunk
                if len(data) > MAX_DOCUMENT:
                    raise DataError(
                        f"{self.name} is a JSON document of more than {MAX_DOCUMENT >> 20} MB; write one object a "
                        "line (NDJSON), which is read in pieces",
                        where=self.name,
                    )
        finally:
            stream.close()
        if not data.strip():
            raise DataError(f"{self.name} is empty", where=self.name)
        whole = _loads(bytes(data), self.name)
        if isinstance(whole, dict):
            whole = self._by_user(whole)
        if not isinstance(whole, list) or not whole:
            raise DataError(f"{self.name} must hold a list of objects, and at least one", where=self.name)
        self._entries = [(n, _object(each, self.at(n))) for n, each in enumerate(whole, 1)]
        self.columns = list(dict.fromkeys(path for _, each in self._entries for path in paths_of(each)))

    def _by_user(self, whole: dict[str, Any]) -> list[dict[str, Any]]:
        if not whole or not all(isinstance(value, list) for value in whole.values()):
            raise DataError(
                f"{self.name} is one object, and its values are no lists; write a list of objects, or "
                '{"user": ["item", ...]}',
                where=self.name,
            )
        self.details["shape"] = "one object: its keys are `key`, the entries of its lists `list`"
        return [{"key": key, "list": value} for key, value in whole.items()]

    def batches(self, columns: list[str], on_batch: OnBatch) -> Iterator[Batch]:
        """Yield batches; each column is text, or lists of text."""
        step = 1 << 16
        for lo in range(0, len(self._entries), step):
            yield _batch(self, self._entries[lo : lo + step], columns)
            on_batch(min(1.0, (lo + step) / len(self._entries)))


def paths_of(value: dict[str, Any], before: str = "") -> list[str]:
    """Dotted names of every leaf of an object; a list is one leaf, or as many as the fields of its objects."""
    paths = []
    for key, each in value.items():
        name = f"{before}{key}"
        if isinstance(each, dict):
            paths += paths_of(each, f"{name}.")
        elif isinstance(each, list) and any(isinstance(entry, dict) for entry in each):
            fields = [path for entry in each if isinstance(entry, dict) for path in paths_of(entry, f"{name}.")]
            paths += list(dict.fromkeys(fields))
        else:
            paths.append(name)
    return paths


def _loads(text: bytes, at: str) -> Any:
    try:
        return json.loads(text, parse_int=str, parse_float=str, parse_constant=_no_constant)
    except UnicodeDecodeError as error:
        raise DataError(f"{at} is not UTF-8 text", where=at) from error
    except RecursionError as error:
        raise DataError(f"{at} is nested too deep", where=at) from error
    except ValueError as error:
        reason = getattr(error, "msg", None) or str(error)
        place = getattr(error, "pos", None)
        raise DataError(
            f"{at} is no JSON: {reason}" + (f" at character {place + 1}" if place is not None else ""), where=at
        ) from error


def _no_constant(name: str) -> str:
    raise ValueError(f"{name} is no JSON number")


def _object(value: Any, at: str) -> dict[str, Any]:
    if not isinstance(value, dict):
        raise DataError(f"{at} must be an object, not {excerpt(json.dumps(value))}", where=at)
    return value


def _batch(source: TableSource, objects: list[tuple[int, dict[str, Any]]], columns: list[str]) -> Batch:
    data = {}
    for column in columns:
        cells = [_cell(each, column.split("."), column, source, row) for row, each in objects]
        nested = any(isinstance(cell, list) for cell in cells)
        if nested:
            cells = [cell if isinstance(cell, list) or cell is None else [cell] for cell in cells]
        data[column] = pl.Series(column, cells, dtype=pl.List(pl.String) if nested else pl.String)
    return Batch(pl.DataFrame(data), objects[0][0], pl.Series([row for row, _ in objects], dtype=pl.Int64))


def _cell(value: Any, path: list[str], column: str, source: TableSource, row: int) -> str | list[str | None] | None:
    """The text at a path, a list of texts where a list lies on the way, None where nothing is."""
    for depth, key in enumerate(path):
        if isinstance(value, list):
            cell = [_cell(entry, path[depth:], column, source, row) for entry in value]
            if any(isinstance(entry, list) for entry in cell):
                raise DataError(
                    f"{source.at(row)}: {column!r} holds lists within lists; rows can be made of one level of lists",
                    where=source.at(row),
                )
            return cell  # type: ignore[return-value]
        if value is None:
            return None
        if not isinstance(value, dict):
            raise DataError(
                f"{source.at(row)}: {column!r} does not fit: there is {excerpt(json.dumps(value))} where an object "
                f"with {key!r} was expected",
                where=source.at(row),
            )
        value = value.get(key)
    if isinstance(value, list):
        return [_leaf(entry, column, source, row) for entry in value]
    return _leaf(value, column, source, row)


def _leaf(value: Any, column: str, source: TableSource, row: int) -> str | None:
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, bool):
        return "true" if value else "false"
    raise DataError(
        f"{source.at(row)}: {column!r} holds {excerpt(json.dumps(value))} where a text or number was expected",
        where=source.at(row),
    )
