"""What import found: rows and ids that are possible, but that a person would want to know of."""

from __future__ import annotations

from datetime import time
from pathlib import Path

import numpy as np
import polars as pl

from gleaner.core.data.profile import ProfileFigures, robots
from gleaner.core.errors import DataError
from gleaner.jobs.datasets.import_rows import EXAMPLES, OUTSIDE_SCALE, ImportTally, InteractionWriter
from gleaner.wire.imports import FileReport, Finding, ImportReport, ImportRequest

FAST_ROWS, FAST_SECONDS = 50, 10
MIDNIGHT = time()
FLOAT_ID = r"^\d+\.0$"


def findings_of(
    request: ImportRequest, rows: Path, writer: InteractionWriter, tally: ImportTally, profiled: ProfileFigures
) -> list[Finding]:
    """Everything about the interactions, warnings first."""
    findings = [Finding(code="note", level=level, text=text) for level, text in tally.notes]
    findings += _repeats(rows, writer)
    findings += _counted(request, tally)
    for side, frame in (("user", profiled.users), ("item", profiled.items)):
        findings += _odd_ids(side, frame["id"])
    findings += _robots(profiled.users)
    return findings


def mostly_dropped(files: list[FileReport]) -> list[Finding]:
    """Return a warning for each file of which less than half of the rows are kept: something is declared wrongly."""
    findings = []
    for file in files:
        if 2 * file.rows_kept >= file.rows_read or not file.dropped:
            continue
        most = max(file.dropped, key=lambda each: each.rows)
        rows_kept = f"{file.file}: only {file.rows_kept:,} of {file.rows_read:,} rows are kept"
        why = f"Of the others {most.rows:,} have the same reason ({most.reason}): is its column declared as it is?"
        text = f"{rows_kept}. {why}"
        findings.append(
            Finding(code="mostly dropped", level="warning", text=text, rows=most.rows, examples=most.examples)
        )
    return findings


def refusals(request: ImportRequest, report: ImportReport) -> list[Finding]:
    """Return why an import would be refused that a look, which goes on after bad rows, has read."""
    every = [each for file in report.files for each in file.dropped]
    is_asked_for = request.outside == "drop"
    dropped = sum(each.rows for each in every if not (is_asked_for and each.reason.startswith(OUTSIDE_SCALE)))
    text = f"with the strictness {request.strictness} this import would be refused: "
    if request.strictness != "lenient" and dropped:
        text += f"{count(dropped, 'row')} cannot be used, see below. Choose lenient to import the rest"
        return [Finding(code="refused", level="warning", text=text, rows=dropped)]
    warnings = sum(each.level == "warning" for each in report.findings)
    if request.strictness == "strict" and warnings:
        text += f"there {'is' if warnings == 1 else 'are'} {count(warnings, 'warning')}"
        return [Finding(code="refused", level="warning", text=text)]
    return []


def _repeats(rows: Path, writer: InteractionWriter) -> list[Finding]:
    again = writer.pairs_again()
    same, places = writer.repeats()
    findings = []
    if same:
        texts = [_row_text(rows, int(at)) for at in places]
        text = f"{count(same, 'row')} equal to an earlier one in every column; preparation merges them as it declares"
        findings.append(
            Finding(
                code="repeats", level="warning", text=text, rows=same, examples=list(dict.fromkeys(texts))[:EXAMPLES]
            )
        )
    if again:
        text = f"{count(again, 'row')} of a user and an item that met before"
        findings.append(Finding(code="pairs again", level="info", text=text, rows=again))
    return findings


def _row_text(rows: Path, at: int) -> str:
    row = pl.scan_parquet(rows).slice(at, 1).collect().row(0, named=True)
    return " ".join(str(value) for name, value in row.items() if value is not None and name != "part")


def _counted(request: ImportRequest, tally: ImportTally) -> list[Finding]:
    findings = []
    low, high = request.scale or (0.0, 0.0)
    sentence = (
        (
            "scale",
            tally.out_of_scale,
            f"outside the declared scale {low:g} to {high:g}, whose rows were dropped",
            "value",
        ),
        (
            "scale",
            tally.clipped,
            f"outside the declared scale {low:g} to {high:g}, brought to its nearest end",
            "value",
        ),
        ("future", tally.in_future, "in the future", "time"),
        ("epoch", tally.at_epoch, "in 1970 or before: an empty time may have been written as zero", "time"),
    )
    for code, n, text, what in sentence:
        if n:
            examples = tally.examples.get(code, [])
            findings.append(
                Finding(code=code, level="warning", text=f"{count(n, what)} {text}", rows=n, examples=examples)
            )
    if tally.zeros:
        text = f"{count(tally.zeros, 'value')} of zero, which stay zero: an empty cell is missing, a zero is a value"
        findings.append(Finding(code="zeros", level="info", text=text, rows=tally.zeros))
    return findings


def _odd_ids(side: str, ids: pl.Series) -> list[Finding]:
    findings = []
    broken = ids.filter(ids.str.contains("\0", literal=True))
    if len(broken):
        raise DataError(f"{side} id {broken[0]!r} holds a NUL character, which no database keeps", where=side)
    padded = ids.filter(ids.str.contains(r"^\s|\s$"))
    if len(padded):
        text = f"{len(padded):,} {side} ids begin or end with a blank; ' 7' and '7' are two ids"
        findings.append(Finding(code="blanks", level="warning", text=text, rows=len(padded), examples=_shown(padded)))
    floats = ids.filter(ids.str.contains(FLOAT_ID))
    if len(floats):
        text = f"{len(floats):,} {side} ids end in .0: they seem to have gone through a column of numbers before"
        findings.append(Finding(code="numbers", level="warning", text=text, rows=len(floats), examples=_shown(floats)))
    return findings


def _shown(ids: pl.Series) -> list[str]:
    return [repr(text) for text in ids.head(EXAMPLES).to_list()]


def _robots(users: pl.DataFrame) -> list[Finding]:
    """Users with far more rows than others, and users whose rows follow each other faster than a person's would."""
    counts = users["rows"].to_numpy()
    fence = robots(counts)
    heavy = users.filter(pl.col("rows") > fence)
    return _heavy(heavy, counts, fence) + _fast(users)


def _heavy(heavy: pl.DataFrame, counts: np.ndarray, fence: float) -> list[Finding]:
    if not heavy.height:
        return []
    share = heavy["rows"].sum() / counts.sum()
    text = (
        f"{count(heavy.height, 'user')} with more than {fence:,.0f} rows, far beyond the others "
        f"(median {np.median(counts):g}), who hold {share:.1%} of rows; "
        "`drop_users_over` of a preparation leaves them out"
    )
    examples = [f"{row['id']} ({row['rows']:,})" for row in heavy.head(EXAMPLES).iter_rows(named=True)]
    return [Finding(code="robots", level="warning", text=text, rows=int(heavy["rows"].sum()), examples=examples)]


def _fast(users: pl.DataFrame) -> list[Finding]:
    """By the mean gap between a user's rows. Times that are dates alone, or all one, tell no rate."""
    if "first" not in users.columns:
        return []
    span = (pl.col("last") - pl.col("first")).dt.total_milliseconds() / 1000
    by_day = (pl.col("first").dt.time() == MIDNIGHT) & (pl.col("last").dt.time() == MIDNIGHT)
    fast = users.with_columns(gap=span / (pl.col("rows") - 1)).filter(
        (pl.col("rows") >= FAST_ROWS) & (pl.col("gap") > 0) & (pl.col("gap") < FAST_SECONDS) & ~by_day
    )
    if not fast.height:
        return []
    text = (
        f"{count(fast.height, 'user')} with {FAST_ROWS} rows and more that follow each other within {FAST_SECONDS} s "
        "on average: likely robots, whose rows are better left out of the file"
    )
    examples = [
        f"{row['id']} ({row['rows']:,}, every {row['gap']:.1f} s)" for row in fast.head(EXAMPLES).iter_rows(named=True)
    ]
    return [Finding(code="fast users", level="warning", text=text, rows=int(fast["rows"].sum()), examples=examples)]


def match_findings(side: str, seen: pl.Series, ids: pl.Series, file: str) -> list[Finding]:
    """Which ids stand in the interactions and not in their table, and the reverse."""
    without = seen.filter(~seen.is_in(ids.implode())).sort()
    unused = ids.filter(~ids.is_in(seen.implode()))
    findings = []
    if len(without):
        text = f"{count(len(without), side)} of the interactions not in {file}"
        examples = without.head(EXAMPLES).to_list()
        findings.append(
            Finding(code=f"{side}s without a row", level="warning", text=text, rows=len(without), examples=examples)
        )
    if len(unused):
        text = f"{count(len(unused), side)} of {file} without interactions"
        examples = unused.head(EXAMPLES).to_list()
        findings.append(
            Finding(code=f"{side}s without interactions", level="info", text=text, rows=len(unused), examples=examples)
        )
    return findings


def count(n: int, what: str) -> str:
    """A number with its noun."""
    return f"{n:,} {what}{'' if n == 1 else 's'}"
