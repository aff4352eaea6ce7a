"""Every format gives the same rows; every damaged or unlikely file is refused with its place and the way out."""

from __future__ import annotations

import gzip
import io
import json
import re
import tempfile
import zipfile
from datetime import datetime
from pathlib import Path

import openpyxl
import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given
from hypothesis import strategies as st
from openpyxl.worksheet._read_only import ReadOnlyWorksheet

from gleaner.core.errors import DataError
from gleaner.jobs.datasets.derive import DeriveSteps
from gleaner.jobs.datasets.import_tables import read_whole
from gleaner.jobs.datasets.opening import SourceOpener
from gleaner.jobs.datasets.sources import columnar, streams
from gleaner.jobs.datasets.sources.delimited import find_separator
from gleaner.jobs.datasets.sources.places import without_secrets
from gleaner.settings import Settings
from gleaner.wire.imports import Derive, Source

ROWS = [("007", "a|b", "1.5"), ("u2", "c", ""), ("u 3", "d", "0")]
TABLE = pl.DataFrame(ROWS, schema=["user", "item", "value"], orient="row")


UPLOAD = "u-0123456789abcdef"


class Desk:
    """Writes files as uploads, and opens them as an import would."""

    def __init__(self, home: Path) -> None:
        self.settings = Settings(home=home)
        self.settings.uploads.mkdir(parents=True)
        (home / "work").mkdir()
        self.opener = SourceOpener(self.settings, home / "work", lambda text: None, anywhere=True)

    def open(self, content: bytes | str, name: str, user: str | None = None, **how):
        data = content.encode() if isinstance(content, str) else content
        (self.settings.uploads / UPLOAD).write_bytes(data)
        return self.opener.open(Source(upload=UPLOAD, file=name, **how), "interactions", user)

    def read(self, content: bytes | str, name: str, user: str | None = None, **how) -> pl.DataFrame:
        source = self.open(content, name, user, **how)
        return read_whole(source, source.columns).frame

    def refusal(self, content: bytes | str, name: str, user: str | None = None, **how) -> str:
        with pytest.raises(DataError) as caught:
            self.read(content, name, user, **how)
        return str(caught.value)


@pytest.fixture
def desk(tmp_path):
    return Desk(tmp_path)


def written(how) -> bytes:
    out = io.BytesIO()
    how(out)
    return out.getvalue()


def workbook(rows, title="rows", *, merge=None, other=None) -> bytes:
    book = openpyxl.Workbook()
    book.active.title = title
    for row in rows:
        book.active.append(list(row))
    if merge:
        book.active.merge_cells(merge)
    if other:
        book.create_sheet(other)
    return written(book.save)


def zstd(data: bytes) -> bytes:
    out = pa.BufferOutputStream()
    with pa.CompressedOutputStream(out, "zstd") as packed:
        packed.write(data)
    return out.getvalue().to_pybytes()


CSV = TABLE.write_csv()
FILES = {
    "csv": (CSV, "r.csv", {}),
    "tsv": (TABLE.write_csv(separator="\t"), "r.tsv", {}),
    "semicolons": (TABLE.write_csv(separator=";"), "r.txt", {}),
    "several characters": ("".join("::".join(r) + "\n" for r in ROWS), "r.dat", {"separator": "::", "header": False}),
    "several, with a header": ("user::item::value\n" + "".join("::".join(r) + "\n" for r in ROWS), "r.dat", {}),
    "gzip": (gzip.compress(CSV.encode()), "r.csv.gz", {}),
    "gzip, misnamed": (gzip.compress(CSV.encode()), "r.csv", {}),
    "zstd": (zstd(CSV.encode()), "r.csv.zst", {}),
    "parquet": (written(TABLE.write_parquet), "r.parquet", {}),
    "arrow file": (written(TABLE.write_ipc), "r.arrow", {}),
    "arrow stream": (written(TABLE.write_ipc_stream), "r.ipc", {}),
    "ndjson": (TABLE.write_ndjson(), "r.ndjson", {}),
    "json": (TABLE.write_json(), "r.json", {}),
    "xlsx": (workbook([TABLE.columns, *ROWS]), "r.xlsx", {}),
    "named format": (TABLE.write_ndjson(), "rows", {"format": "ndjson"}),
}


@pytest.mark.parametrize("case", FILES)
def test_every_format_gives_the_same_cells(desk, case):
    content, name, how = FILES[case]
    table = desk.read(content, name, **how)
    filled = [tuple("" if cell is None else cell for cell in row) for row in table.rows()]
    assert filled == ROWS
    assert table.columns == (["f0", "f1", "f2"] if how.get("header") is False else TABLE.columns)


@pytest.mark.parametrize(
    ("content", "name", "columns", "expected"),
    [
        ('{"u": "a", "basket": ["x", "y"]}\n{"u": "b", "basket": []}\n{"u": "c", "basket": ["z"]}\n', "b.ndjson",
         ["u", "basket"], [("a", "x"), ("a", "y"), ("c", "z")]),
        ('{"m": {"id": 7}, "b": [{"s": "x", "n": 2}, {"s": "y"}]}\n', "b.ndjson", ["m.id", "b.s", "b.n"],
         [("7", "x", "2"), ("7", "y", None)]),
        ('{"a": ["x", "y"], "b": ["z"]}', "b.json", ["key", "list"], [("a", "x"), ("a", "y"), ("b", "z")]),
        (written(pl.DataFrame({"u": ["a", "b"], "l": [["x", "y"], ["z"]]}).write_parquet), "b.parquet", ["u", "l"],
         [("a", "x"), ("a", "y"), ("b", "z")]),
    ],
)  # fmt: skip
def test_lists_become_rows(desk, content, name, columns, expected):
    source = desk.open(content, name)
    assert source.columns == columns
    assert read_whole(source, columns).frame.rows() == expected


def test_quotes_can_be_plain_characters(desk):
    assert desk.read('a\tb\nu "x\t"y\n', "f.tsv", quotes=False).rows() == [('u "x', '"y')]
    assert desk.read("\ufeffa,b\r\n\r\n1,2\r\n", "f.csv").rows() == [("1", "2")]


def test_rows_keep_their_numbers_when_lists_become_rows(desk):
    source = desk.open('{"u": "a", "l": ["x", "y"]}\n\n{"u": "b", "l": ["z"]}\n', "b.ndjson")
    batch = read_whole(source, source.columns)
    assert [batch.row(at) for at in range(3)] == [1, 1, 3]
    assert source.at(batch.row(2)) == "b.ndjson line 3"


@pytest.mark.parametrize("name", ["w.csv", "w.xlsx"])
def test_a_wide_table_gives_a_row_for_each_filled_cell(desk, name):
    rows = [("who", "101", "102", "103"), ("a", "5", "", "0"), ("b", "", "", ""), ("c", "", "2", " ")]
    content = workbook(rows) if name.endswith("xlsx") else "".join(",".join(row) + "\n" for row in rows)
    source = desk.open(content, name, "who", wide=True)
    assert source.columns == ["who", "item", "value"]
    table = read_whole(source, source.columns)
    assert table.frame.rows() == [("a", "101", "5"), ("a", "103", "0"), ("c", "102", "2")]
    assert [table.row(at) for at in range(3)] == [2, 2, 4]
    few = desk.open(content, name, "who", wide=True, across=["102"])
    assert read_whole(few, few.columns).frame.rows() == [("c", "102", "2")]


def test_dates_and_numbers_of_a_workbook_stay_what_they_show(desk):
    content = workbook(
        [("id", "n", "on", "at", "yes"), (7, 1.5, datetime(2026, 3, 1), datetime(2026, 3, 1, 9, 30), True)]
    )
    assert desk.read(content, "b.xlsx").rows() == [("7", "1.5", "2026-03-01", "2026-03-01 09:30:00", "true")]


@given(st.lists(st.sampled_from(["a", ":", "::", "b", ":::"]), max_size=30), st.integers(1, 7))
def test_a_long_separator_is_found_wherever_chunks_are_cut(parts, size):
    text = "".join(parts)
    with tempfile.NamedTemporaryFile("w") as file:
        file.write(text)
        file.flush()
        stream = streams.TextStream(Path(file.name), "f", "::")
        data = b""
        while chunk := stream.read(size):
            data += chunk
        stream.close()
    assert data.decode() == text.replace("::", "\x1f")


@pytest.mark.parametrize(
    ("lines", "expected"),
    [
        (["a,b", "1,2"], ","), (["a\tb", "1\t2"], "\t"), (["1::2::3", "4::5::6"], "::"), (["a;b,c", "1;2,3"], ","),
        (['"a;x",b', "1,2"], ","), (["a", "b"], None), (["a,b", "1"], None), (["a|b|c", "1|2|3"], "|"),
    ],
)  # fmt: skip
def test_separators_are_found(lines, expected):
    assert find_separator(lines) == expected


def cut(content: bytes) -> bytes:
    return content[: len(content) // 2]


def bomb() -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("xl/workbook.xml", b"0" * (100 << 20))
    return out.getvalue()


def without_sheets() -> bytes:
    """A workbook whose list of sheets is empty."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(workbook([("a", "b")]))) as whole, zipfile.ZipFile(out, "w") as archive:
        for info in whole.infolist():
            part = whole.read(info.filename)
            archive.writestr(info.filename, re.sub(rb"<sheet [^>]*/>", b"", part))
    return out.getvalue()


def with_damaged_directory() -> bytes:
    """A workbook whose archive ends as it should, and whose list of parts is broken."""
    content = bytearray(workbook([("user", "item"), ("a", "b")]))
    content[content.rindex(b"PK\x01\x02")] ^= 1
    return bytes(content)


FORMULA = workbook([("user", "item"), ("a", "=1+1")])
BAD = {
    "cut-off gzip": (cut(gzip.compress(CSV.encode() * 99)), "f.csv.gz", {}, "f.csv.gz cannot be unpacked: the gzip data was cut off"),
    "damaged zstd": (streams.ZSTD + b"nonsense" * 9, "f.csv.zst", {}, "f.csv.zst cannot be unpacked: the zstd data is damaged"),
    "no parquet": (b"PAR1nonsense", "f.parquet", {}, "f.parquet is no Parquet file, or is damaged"),
    "cut-off parquet": (cut(written(TABLE.write_parquet)), "f.parquet", {}, "f.parquet is no Parquet file, or is damaged"),
    "empty parquet": (written(TABLE.clear().write_parquet), "f.parquet", {}, "f.parquet has no rows"),
    "no arrow": (b"ARROW1nonsense", "f.arrow", {}, "f.arrow is no Arrow IPC file, or is damaged"),
    "bad json line": ('{"a": 1}\n{"a": }\n', "f.ndjson", {}, "f.ndjson line 2 is no JSON: Expecting value at character 7"),
    "no object": ('{"a": 1}\n[1]\n', "f.ndjson", {}, 'f.ndjson line 2 must be an object, not ["1"]'),
    "nan": ('{"a": NaN}\n', "f.ndjson", {}, "f.ndjson line 1 is no JSON: NaN is no JSON number"),
    "nested that does not fit": ('{"a": {"b": 1}}\n{"a": 2}\n', "f.ndjson", {}, "f.ndjson line 2: 'a.b' does not fit: there is \"2\" where an object with 'b' was expected"),
    "lists in lists": ('{"a": [{"b": [1, 2]}]}\n', "f.ndjson", {}, "holds lists within lists"),
    "uneven lists": ('{"a": [1, 2], "b": [1]}\n', "f.ndjson", {}, "f.ndjson line 1: 'a' and 'b' hold lists of different lengths"),
    "deep json": ("[" * 100_000, "f.json", {}, "f.json is nested too deep"),
    "one value": ('{"a": 1}', "f.json", {}, "its values are no lists"),
    "empty list": ("[]", "f.json", {}, "must hold a list of objects, and at least one"),
    "not utf-8 json": (b'{"a": "\xff"}\n', "f.ndjson", {}, "f.ndjson line 1 is not UTF-8 text"),
    "zip bomb": (bomb(), "f.xlsx", {}, "more than a workbook plausibly does"),
    "zip of something": (written(lambda out: zipfile.ZipFile(out, "w").close()), "f.zip", {}, "f.zip is a zip archive; unpack it"),
    "two sheets": (workbook([("a",)], other="more"), "f.xlsx", {}, "f.xlsx has 2 sheets; say which: rows, more"),
    "no such sheet": (workbook([("a",)]), "f.xlsx", {"sheet": "x"}, "f.xlsx has no sheet 'x'; there are: rows"),
    "merged cells": (workbook([("a", "b"), (1, 2), (3, 4)], merge="A2:A3"), "f.xlsx", {}, "f.xlsx, sheet 'rows': cells A2:A3 are merged"),
    "formula without a value": (FORMULA, "f.xlsx", {}, "cell B2 holds the formula =1+1 and no computed value"),
    "hole in the header": (workbook([("a", None, "c"), (1, 2, 3)]), "f.xlsx", {}, "cell B1 of the header is empty"),
    "column twice": (workbook([("a", "a"), (1, 2)]), "f.xlsx", {}, "the header names column 'a' twice"),
    "damaged list of parts": (with_damaged_directory(), "f.xlsx", {}, "f.xlsx is a workbook or another zip archive, and damaged: Bad magic"),
    "no sheets": (without_sheets(), "f.xlsx", {}, "f.xlsx is a workbook without a sheet, or is damaged"),
    "sheet without rows": (workbook([("a", "b")]), "f.xlsx", {}, "has a header but no rows"),
    "0x1f": ("a\x1f::b\n", "f.dat", {"separator": "::", "header": False}, "f.dat holds the control character 0x1f"),
    "utf-16": (CSV.encode("utf-16"), "f.csv", {}, "f.csv row 1 is not UTF-8 text; save the file as UTF-8"),
    "stray quote": ('a\tb\n"x\ty\n', "f.tsv", {}, "if quotes mean nothing in this file, say so (--no-quotes)"),
    "quotes and a long separator": ("a::b\n1::2\n", "f.dat", {"separator": "::", "quotes": True}, "cells cannot stand in quotes"),
    "header where there should be none": ("user,item\nu,a\n", "f.csv", {"header": False}, "f.csv row 1 looks like a header (user, item), though the import says"),
}  # fmt: skip


def test_a_sheet_whose_rows_prove_damaged_is_refused(desk, monkeypatch):
    """The reader unpacks and parses rows as they are asked for, and raises whatever it stumbles over."""
    source = desk.open(workbook([("user", "item"), ("a", "b")]), "f.xlsx")

    def broken(*given, **how):
        yield from ()
        raise zipfile.BadZipFile("Bad CRC-32")

    monkeypatch.setattr(ReadOnlyWorksheet, "iter_rows", broken)
    with pytest.raises(DataError, match=r"f.xlsx is damaged, sheet 'rows', row 2 or after it: Bad CRC-32"):
        list(source.batches(["user"], lambda done: None))


def test_fewer_rows_than_a_parquet_file_promises_are_a_damage(desk, monkeypatch):
    source = desk.open(written(TABLE.write_parquet), "f.parquet")
    monkeypatch.setattr(pq.ParquetFile, "iter_batches", lambda *given, **how: iter(()))
    with pytest.raises(DataError, match=r"f.parquet is damaged: it says that it has 3 rows, and 0 could be read"):
        list(source.batches(["user"], lambda done: None))


def test_names_that_only_a_later_reader_decodes_are_a_damage(desk, monkeypatch):
    source = desk.open(written(TABLE.write_ipc), "f.arrow")

    def panicking(batch):
        raise pl.exceptions.PanicException("Utf8Error")

    monkeypatch.setattr(columnar.pl, "from_arrow", panicking)
    with pytest.raises(DataError, match=r"f.arrow row 1: the file is damaged: Utf8Error"):
        list(source.batches(["user"], lambda done: None))


@pytest.mark.parametrize("case", BAD)
def test_what_cannot_be_read_is_refused_with_its_place(desk, case):
    content, name, how, message = BAD[case]
    assert message in desk.refusal(content, name, **how)


def test_a_column_that_is_not_there_gets_a_guess_at_why(desk):
    for content, how, hint in (
        ("a;b\n1;2\n", {"separator": ","}, "the separator seems to be ';', not ','"),
        (
            "1,1193,5,978300760\n1,661,3,978302109\n",
            {},
            "the first line looks like data: if there is no header, say so",
        ),
        ("a, User\n1,2\n", {}, "there is ' User', which differs in case or blanks"),
        ("1,1\n", {}, "the header names column '1' twice; the first line looks like data"),
    ):
        with pytest.raises(DataError) as caught:
            desk.open(content, "f.csv", **how).require("user", "user")
        assert hint in str(caught.value)


def test_a_bomb_of_text_is_stopped_while_it_unpacks(desk, monkeypatch):
    monkeypatch.setattr(streams, "BOMB_FROM", 1 << 20)
    packed = gzip.compress(b"user,item\n" + b"a,b\n" * 4_000_000)
    assert "unpacks to more than 400 times its size" in desk.refusal(packed, "f.csv.gz")


def test_ragged_rows_are_skipped_and_counted_where_that_is_asked_for(desk):
    source = desk.open("a,b\n1,2\n3\n4,5,6\n7,8\n", "f.csv")
    source.skip_bad = True
    assert read_whole(source, ["a", "b"]).frame.rows() == [("1", "2"), ("7", "8")]
    assert source.n_bad == 2
    assert [bad.text for bad in source.bad_rows] == ["3", "4,5,6"]


def steps_of(desk, content: str, *steps: dict, tables=None) -> tuple[DeriveSteps, pl.DataFrame]:
    source = desk.open(content, "t.csv")
    derivation = DeriveSteps(source, [Derive.model_validate(step) for step in steps], tables or {})
    return derivation, derivation.apply(read_whole(source, source.columns)).frame


def test_derived_columns(desk):
    families = pl.DataFrame({"code": ["1", "2"], "name": ["pea", "bean"], "climbing": ["true", "false"]})
    steps, frame = steps_of(
        desk,
        "title,place,family,at\nOld Pea (1998),north/shore,1,01.03.2026 09:30\nNo year,south,9,02.03.2026 09:30\n",
        {"pull": "title", "pattern": r"\((\d{4})\)$", "into": ["year"]},
        {"split": "place", "by": "/", "into": ["region", "village"]},
        {"join": "families", "on": "family", "key": "code", "take": ["name"]},
        {"time": "at", "format": "%d.%m.%Y %H:%M", "zone": "Europe/Berlin"},
        tables={"families": families},
    )
    assert frame["year"].to_list() == ["1998", None]
    assert frame["region"].to_list() == ["north", "south"]
    assert frame["village"].to_list() == ["shore", None]
    assert frame["name"].to_list() == ["pea", None]
    assert str(frame["at"][0]) == "2026-03-01 08:30:00+00:00"
    assert steps.unmatched == {r"title without a match of \((\d{4})\)$": 1, "family not in table families": 1}
    assert steps.needs(["year"]) == ["title", "place", "family", "at"]


@pytest.mark.parametrize(
    ("step", "message"),
    [
        ({"split": "nope", "by": "/", "into": ["x"]}, "derive step 1 needs column 'nope'; there are: a, b"),
        ({"split": "a", "by": "/", "into": ["b"]}, "makes column 'b', which is there already"),
        ({"pull": "a", "pattern": "(", "into": ["x"]}, "is no regular expression"),
        ({"pull": "a", "pattern": "x", "into": ["y"]}, "has 0 groups, and `into` names 1 columns"),
        ({"join": "none", "on": "a"}, "joins table 'none', which the import does not name"),
        ({"time": "a", "format": "%Y"}, "t.csv row 2: a 'x' is not written like the declared format '%Y'"),
        ({"time": "a", "zone": "Nowhere"}, "there is no time zone 'Nowhere'"),
    ],
)
def test_steps_that_cannot_be_are_refused(desk, step, message):
    with pytest.raises(DataError) as caught:
        steps_of(desk, "a,b\nx,y\n", step)
    assert message in str(caught.value)


def test_urls_are_kept_without_what_is_secret():
    assert without_secrets("postgresql://me:pw@db:5432/shop?sslkey=1") == "postgresql://me@db:5432/shop"
    assert without_secrets("s3://bucket/key.csv?X-Sig=abc") == "s3://bucket/key.csv"


def test_a_file_by_url_is_bounded(desk, tmp_path):
    place = tmp_path / "rows.csv"
    place.write_text(CSV)
    source = desk.opener.open(Source(url=f"file://{place}"), "interactions")
    assert read_whole(source, source.columns).frame.height == 3
    desk.settings.max_upload_bytes = 10
    with pytest.raises(DataError, match="is larger than 10 bytes"):
        desk.opener.open(Source(url=f"file://{place}"), "interactions")
    for url, message in (
        (f"file://{place}.none", "there is nothing at file://"),
        ("gopher://x/y.csv", "'gopher' URLs are not taken; taken are abfs, "),
    ):
        with pytest.raises(DataError, match=message):
            desk.opener.open(Source(url=url), "interactions")


def test_json_values_keep_their_digits(desk):
    table = desk.read(json.dumps([{"a": 12345678901234567890, "b": True, "c": None}]), "f.json")
    assert table.rows() == [("12345678901234567890", "true", None)]


def test_typed_columns_come_as_they_are(desk):
    table = pa.table(
        {
            "id": pa.array([1, 2]),
            "t": pa.array([1, 2], pa.timestamp("s")),
            "d": pa.array(["x", "x"]).dictionary_encode(),
        }
    )
    actual = desk.read(written(lambda out: pq.write_table(table, out)), "f.parquet")
    assert [actual.schema["id"], actual["d"].cast(pl.String).to_list()] == [pl.Int64, ["x", "x"]]
