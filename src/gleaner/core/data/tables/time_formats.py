"""Ways in which times are written, found from the cells of a column."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

EPOCH_UNITS = {"s": 1_000_000, "ms": 1_000, "us": 1}
"""Microseconds of one unit of an epoch count."""
MILLISECONDS_FROM, MICROSECONDS_FROM = 1e11, 1e14
"""Sizes from which an epoch count is of milliseconds, and of microseconds. As seconds they lie after the year 5000."""
OFFSET_FORMATS = ("%+", "%Y-%m-%d %H:%M:%S%.f%#z")
ISO_FORMATS = ("%Y-%m-%dT%H:%M:%S%.f", "%Y-%m-%d %H:%M:%S%.f", "%Y-%m-%dT%H:%M", "%Y-%m-%d %H:%M", "%Y-%m-%d")
DAYS = {
    "day first": ("%d.%m.%Y", "%d/%m/%Y", "%d-%m-%Y", "%d.%m.%y", "%d/%m/%y"),
    "month first": ("%m/%d/%Y", "%m-%d-%Y", "%m/%d/%y"),
    "year first": ("%Y/%m/%d", "%Y.%m.%d", "%Y%m%d"),
}
CLOCKS = ("", " %H:%M:%S", " %H:%M", " %I:%M %p", " %I:%M:%S %p")
CLOCK_CODES = ("%H", "%I", "%T", "%R", "%c", "%s", "%+", "%p")
LEAST_SHARE = 0.5
"""Share of the filled cells that a format must read to be proposed."""
YEARS = range(1900, 2200)
"""Years that a proposed format may give: a two-digit year read as four digits lies before them."""


@dataclass(frozen=True)
class FittingFormat:
    """A format and the share of the filled cells that it reads. label: the format in words."""

    form: str
    label: str
    share: float


def fitting_formats(cells: pl.Series) -> list[FittingFormat]:
    """Return the formats that read at least half of the filled cells, the best first; for equal shares ISO 8601 first.

    cells: text. Day first and month first may both read all of them: then the cells do not tell which it is.
    """
    filled = cells.cast(pl.String).str.strip_chars().replace("", None).drop_nulls()
    if not len(filled):
        return []
    found = [*_epochs(filled), *(_fitting(filled, form, label) for form, label in _declared())]
    fitting = [each for each in found if each is not None and each.share >= LEAST_SHARE]
    return sorted(fitting, key=lambda each: -each.share)


def is_ambiguous(formats: list[FittingFormat]) -> bool:
    """Return whether the best formats read the same cells as different days."""
    best = {each.label.partition(",")[0] for each in formats if each.share == formats[0].share}
    return {"day first", "month first"} <= best


def read_format(cells: pl.Series, form: str) -> pl.Series:
    """Return times without a zone, or in UTC for formats that name one; null for cells that do not fit.

    form: a strptime format, or `s`, `ms` or `us` for epoch counts. Raises ComputeError or InvalidOperationError of
    Polars for a form that is no format.
    """
    if form in EPOCH_UNITS:
        stamps = (cells.cast(pl.Float64, strict=False) * EPOCH_UNITS[form]).round().cast(pl.Int64, strict=False)
        return stamps.cast(pl.Datetime("us")).dt.replace_time_zone("UTC")
    if not any(code in form for code in CLOCK_CODES):
        return cells.str.to_date(form, strict=False).cast(pl.Datetime("us"))
    return cells.str.to_datetime(form, time_unit="us", strict=False)


def _declared() -> list[tuple[str, str]]:
    """Return every format that is tried with its label, in the order of preference."""
    forms = [(form, "ISO 8601, with offset") for form in OFFSET_FORMATS] + [(form, "ISO 8601") for form in ISO_FORMATS]
    for order, days in DAYS.items():
        for day in days:
            forms += [(day + clock, f"{order}, {'with time' if clock else 'date only'}") for clock in CLOCKS]
    return forms


def _epochs(filled: pl.Series) -> list[FittingFormat]:
    """Return the epoch unit that fits the typical size of the numbers, if most cells are numbers of such a size."""
    numbers = filled.cast(pl.Float64, strict=False)
    sizes = numbers.abs().drop_nulls()
    is_count = sizes.filter(sizes >= 1e8)
    if not len(is_count):
        return []
    typical = float(is_count.median() or 0)  # type: ignore[arg-type]
    unit = "us" if typical >= MICROSECONDS_FROM else "ms" if typical >= MILLISECONDS_FROM else "s"
    names = {"s": "seconds", "ms": "milliseconds", "us": "microseconds"}
    return [FittingFormat(unit, f"epoch {names[unit]}", len(is_count) / len(filled))]


def _fitting(filled: pl.Series, form: str, label: str) -> FittingFormat | None:
    times = read_format(filled, form)
    is_likely = times.dt.year().is_between(YEARS.start, YEARS.stop).fill_null(False)
    share = float(is_likely.mean() or 0)  # type: ignore[arg-type]
    return FittingFormat(form, label, share) if share else None
