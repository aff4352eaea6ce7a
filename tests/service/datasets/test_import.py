"""Bringing data in: exact ids, clear refusals, nothing half-written."""

from __future__ import annotations

import csv
import io

import polars as pl
import pytest

from bringing import TIMED, bring, refused
from gleaner.client import JobFailedError, RefusedError, calls
from gleaner.wire.imports import Derive, ImportRequest, Roles, Source
from stack import ROLES, Stack, wait_for

HEADER = "user,item,kind,time,value\n"
GOOD = HEADER + "u1,a,view,2026-01-01T00:00:00Z,\n"
PLAIN = Roles(user="user", item="item")


def interactions_of(stack: Stack, name: str) -> pl.DataFrame:
    [(digest,)] = stack.sql(
        "SELECT interactions_file FROM versions JOIN datasets d ON d.id = dataset_id WHERE d.name = %s", name
    )
    return pl.read_parquet(stack.home / "artefacts" / digest[:2] / digest)


def test_ids_come_through_to_the_letter(stack):
    ids = [
        "007",
        "7",
        " 7",
        "a b",
        'say "hi"',
        "x,y",
        "\U0001f331\U0001f955",
        "7.0",
        "1e5",
        "true",
        "null",
        "NA",
        "line\nbreak",
    ]
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["item", "note", "user"])
    writer.writerows([[text, "n", text[::-1]] for text in ids])
    version = stack.add("odd-ids", out.getvalue(), PLAIN)
    rows = interactions_of(stack, "odd-ids")
    assert rows["item"].to_list() == ids
    assert rows["user"].to_list() == [text[::-1] for text in ids]
    assert version.rows == len(ids)
    assert version.report.files[0].unused == ["note"]
    # ids are written backwards for users: " 7" is "7 " there, and "7.0" is "0.7"
    assert [(finding.code, finding.examples) for finding in version.report.findings] == [
        ("blanks", ["'7 '"]), ("blanks", ["' 7'"]), ("numbers", ["'7.0'"])
    ]  # fmt: skip


def test_zero_is_kept_missing_is_missing(stack):
    stack.add("gaps", HEADER + "u,a,view,2026-01-01,0\nu,b,,,\nu,c,view,2026-01-02,-1.5\n")
    rows = interactions_of(stack, "gaps")
    assert rows["value"].to_list() == [0.0, None, -1.5]
    assert rows["kind"].to_list() == ["view", None, "view"]
    assert rows["time"].null_count() == 1


@pytest.mark.parametrize(
    ("written", "expected"),
    [
        ("2026-03-01T09:30:00Z", "2026-03-01 09:30:00+00:00"),
        ("2026-03-01T09:30:00+02:00", "2026-03-01 07:30:00+00:00"),
        ("2026-03-01 09:30:00.25", "2026-03-01 09:30:00.250000+00:00"),
        ("2026-03-01", "2026-03-01 00:00:00+00:00"),
        ("1772357400", "2026-03-01 09:30:00+00:00"),
        ("1772357400123", "2026-03-01 09:30:00.123000+00:00"),
    ],
)
def test_ways_of_writing_a_time(stack, written, expected):
    stack.add(
        f"times-{abs(hash(written))}", f"user,item,time\nu,a,{written}\n", Roles(user="user", item="item", time="time")
    )
    assert str(interactions_of(stack, f"times-{abs(hash(written))}")["time"][0]) == expected


BAD = {
    "missing column": ("user,thing\nu,a\n", "interactions.csv has no column 'item' (given as item); its columns are: user, thing"),
    "number": (HEADER + "u,a,v,2026-01-01,1\nu,b,v,2026-01-01,many\n", "interactions.csv row 3: value 'many' is not a number"),
    "not finite": (HEADER + "u,a,v,2026-01-01,NaN\n", "interactions.csv row 2: value 'NaN' is not a number"),
    "time": (HEADER + "u,a,v,2026-01-01,1\nu,b,v,soon,1\n", "interactions.csv row 3: time 'soon' is not written like the format of most cells, '%Y-%m-%d'"),
    "first time": (HEADER + "u,a,v,soon,1\n", "interactions.csv row 2: time 'soon' is not a time"),
    "empty file": ("", "interactions.csv is empty"),
    "only a header": (HEADER, "interactions.csv has a header but no rows"),
    "header cut off": ("user,item", "interactions.csv has no rows and no complete header"),
    "empty id": (HEADER + "u,a,v,2026-01-01,1\n,b,v,2026-01-01,1\n", "interactions.csv row 3: column 'user' is empty"),
    "ends mid-row": (GOOD + "u2,b,vi", "interactions.csv row 3 has 3 cells where the header has 5 ('u2,b,vi'); the file may have been cut off"),
    "ends in a quote": (GOOD + 'u2,"b', "ends inside a quoted cell"),
    "too many cells": (GOOD + "u2,b,view,2026-01-01,1,extra\n", "row 3 has 6 cells where the header has 5"),
    "column twice": ("user,item,item\nu,a,b\n", "the header names column 'item' twice"),
    "not text": (GOOD.encode() + b"u\xff,a,view,,\n", "is not UTF-8 text"),
}  # fmt: skip


def ends_as(bad: str | bytes) -> Roles:
    return PLAIN if isinstance(bad, str) and "kind" not in bad and bad else ROLES


@pytest.mark.parametrize("case", BAD)
def test_bad_files_are_refused_and_leave_nothing(stack, case):
    text, message = BAD[case]
    before = stack.files()
    upload = stack.send_text(text, "interactions.csv")
    request = ImportRequest(interactions=upload, roles=ends_as(text))
    job = stack.client.send(calls.import_version("never-made", request))
    with pytest.raises(JobFailedError) as caught:
        stack.client.wait(job.id)
    assert message in str(caught.value)
    assert caught.value.job.problem.status == 422
    assert stack.sql("SELECT 1 FROM datasets WHERE name = 'never-made'") == []
    from stack import wait_for

    # but the file that was sent, so that whoever mends the request need not send it again
    wait_for(lambda: stack.files() <= before | {f"uploads/{upload.upload}"})


def test_a_file_without_a_last_line_break_is_taken_with_a_warning(stack):
    version = stack.add("no-newline", GOOD.rstrip("\n"))
    assert [finding.text for finding in version.report.findings if finding.level == "warning"] == [
        "interactions.csv does not end with a line break; it may have been cut off"
    ]


def test_tables_are_typed_and_matched(stack):
    items = "item,price,code,fresh,since,note\na,3,01,true,2026-01-01,\nb,,02,false,2026-01-02,x\n"
    version = stack.add("typed", GOOD + "u2,c,view,2026-01-01T00:00:00Z,1\n", items=items, users="user,zone\nu1,Z1\n")
    assert {column.name: column.type for column in version.item_columns} == {
        "id": "id", "price": "number", "code": "category", "fresh": "flag", "since": "date", "note": "text",
    }  # fmt: skip
    assert {column.name: column.missing for column in version.item_columns}["price"] == 1
    notes = {finding.text: finding.examples for finding in version.report.findings}
    assert notes["1 item of the interactions not in items.csv"] == ["c"]
    assert notes["1 item of items.csv without interactions"] == ["b"]
    assert notes["1 user of the interactions not in users.csv"] == ["u2"]


def test_an_id_twice_in_a_table_is_refused(stack):
    request = ImportRequest(
        interactions=stack.send_text(GOOD, "interactions.csv"),
        roles=ROLES,
        items=stack.send_text("item,name\na,A\nb,B\na,C\n", "varieties.csv"),
    )
    with pytest.raises(JobFailedError, match=r"varieties\.csv row 4: item 'a' stands there a second time"):
        stack.client.wait(stack.client.send(calls.import_version("never-made", request)).id)


def test_versions_are_numbered_and_hashed_by_content(stack):
    roles = Roles(user="user", item="item", kind="kind")
    first = stack.add("hashed", "user,item,kind\nu,a,view\nv,b,save\n", roles)
    moved = stack.add("hashed", "kind,item,user\nview,a,u\nsave,b,v\n", roles)
    other = stack.add("hashed", "user,item,kind\nu,a,view\nv,b,view\n", roles)
    shifted = stack.add("hashed", "user,item,kind\nu,av,iew\nv,b,save\n", roles)
    assert [each.name for each in (first, moved, other)] == ["hashed@1", "hashed@2", "hashed@3"]
    assert first.content_hash == moved.content_hash
    assert len({first.content_hash, other.content_hash, shifted.content_hash}) == 3


def test_without_a_header_and_with_another_separator(stack):
    request = ImportRequest(
        interactions=stack.send_text("u;a\nv;b\n", "plain.csv").model_copy(update={"separator": ";", "header": False}),
        roles=Roles(user="f0", item="f1"),
    )
    job = stack.client.wait(stack.client.send(calls.import_version("headless", request)).id)
    assert job.result["rows"] == 2


def test_an_upload_that_is_not_there_is_refused(stack):
    for name, message in (("u-0123456789abcdef", "there is no upload"), ("../postgres.secret", "should match pattern")):
        request = ImportRequest(interactions=Source.model_construct(upload=name), roles=PLAIN)
        with pytest.raises(RefusedError, match=message):
            stack.client.send(calls.import_version("never-made", request))


def peak_of(stack: Stack, name: str) -> float | None:
    [(peak,)] = stack.sql("SELECT peak_memory_mb FROM jobs WHERE subject = %s", name)
    return peak


def test_memory_does_not_grow_with_the_file(stack):
    rest = "-" + "x" * 150
    body = "".join(
        f"grower-{number % 5000:05d}{rest},variety-{number % 911:04d}{rest},view,2026-01-01T00:00:00Z,\n"
        for number in range(50_000)
    )
    peaks = []
    for times in (2, 16):
        stack.add(f"large-{times}", HEADER + body * times)
        # what it took is written when its process has ended, a moment after the job is done
        peaks.append(wait_for(lambda of=times: peak_of(stack, f"large-{of}")))
    # the second file is 248 MB larger; held once as text it would cost at least that much more. Its buffers, which the
    # first does not fill, cost up to 140 MB, and 30 MB more or less from one run to the next
    assert peaks[1] - peaks[0] < 175, peaks


def test_times_that_do_not_fit_are_bad_rows_each_with_its_reason(stack):
    times = [f"{1 + n % 28:02}.03.2026 {n % 24:02}:30" for n in range(60)] + ["kaputt", "29.03.2026 02:30"]
    text = "user,item,value,time\n" + "".join(f"u{n % 9},i{n % 7},1,{time}\n" for n, time in enumerate(times))
    declared = [Derive(time="time", format="%d.%m.%Y %H:%M", zone="Europe/Berlin")]
    source = stack.send_text(text, "rows.csv").model_copy(update={"derive": declared})
    request = ImportRequest(interactions=source, roles=TIMED, strictness="lenient")
    version = bring(stack, "clocks", request)
    assert version.rows == 60
    [report] = version.report.files
    dropped = {each.reason: (each.rows, each.examples) for each in report.dropped}
    assert dropped == {
        "time is not written like the declared format '%d.%m.%Y %H:%M'": (1, ["row 62: 'kaputt'"]),
        "time does not exist in Europe/Berlin: a clock change skips that local time": (
            1,
            ["row 63: '29.03.2026 02:30'"],
        ),
    }
    unread = "u1,i1,1,01.03.2026 00:30\nu1,i1,1,29.03.2026 02:30\n"
    source = stack.send_text("user,item,value,time\n" + unread, "rows.csv").model_copy(update={"derive": declared})
    refusing = ImportRequest(interactions=source, roles=TIMED)
    assert "time '29.03.2026 02:30' does not exist in Europe/Berlin" in refused(stack, refusing)
