"""Files of recommendation lists: CSV, Parquet, or the plain six-column run format of the retrieval trade."""

from __future__ import annotations

from pathlib import Path

import polars as pl

from gleaner.core.errors import DataError, near
from gleaner.wire.lists import ListColumns

RUN_COLUMNS = 6
PARQUET = b"PAR1"


def read_lists(path: Path, columns: ListColumns) -> tuple[pl.DataFrame, str]:
    """Rows with user, item and place or score, and what format they stood in. Raises DataError naming column or row.

    Ids are text as they stand. A run file has six columns between blanks and no headings: user, a literal, item, place,
    score, name of the run.
    """
    with path.open("rb") as file:
        head = file.read(64 * 1024)
    if head[:4] == PARQUET:
        return _named(_parquet(path), columns), "Parquet"
    try:
        lines = head.decode("utf-8-sig", errors="strict" if len(head) < 64 * 1024 else "ignore").splitlines()
    except UnicodeDecodeError:
        raise DataError("the file is neither Parquet nor UTF-8 text") from None
    if not lines:
        raise DataError("the file is empty")
    if len(lines[0].split()) == RUN_COLUMNS and not {",", ";"} & set(lines[0]):
        return _run(path), "six-column run"
    separator = next((each for each in ("\t", ";") if each in lines[0]), ",")
    try:
        frame = pl.read_csv(path, separator=separator, infer_schema=False)
    except pl.exceptions.PolarsError as error:
        raise DataError(f"the file cannot be read as CSV: {str(error).splitlines()[0]}") from None
    return _named(frame, columns), "CSV"


def _parquet(path: Path) -> pl.DataFrame:
    try:
        return pl.read_parquet(path)
    except (pl.exceptions.PolarsError, OSError) as error:
        raise DataError(f"the file cannot be read as Parquet: {str(error).splitlines()[0]}") from None


def _run(path: Path) -> pl.DataFrame:
    """Fields between any number of blanks; each line needs six."""
    text = pl.Series("line", path.read_text(encoding="utf-8-sig").splitlines())
    lines = pl.DataFrame({"line": text, "at": range(1, len(text) + 1)}).filter(pl.col("line").str.strip_chars() != "")
    split = lines.with_columns(pl.col("line").str.strip_chars().str.replace_all(r"\s+", " ").str.split(" "))
    wrong = split.filter(pl.col("line").list.len() != RUN_COLUMNS)
    if wrong.height:
        n = len(wrong["line"][0])
        raise DataError(
            f"line {wrong['at'][0]:,} has {n} fields; a run file has six: user, Q0, item, place, score, name"
        )
    part = {
        name: pl.col("line").list.get(place) for place, name in ((0, "user"), (2, "item"), (3, "place"), (4, "score"))
    }
    return _numbers(split.select(**part), ["place", "score"])


def _named(frame: pl.DataFrame, columns: ListColumns) -> pl.DataFrame:
    """The columns named, or those that are called as we call them."""
    place, score = columns.place, columns.score
    if place is None and score is None:
        place = next((name for name in ("place", "position", "rank") if name in frame.columns), None)
        score = "score" if place is None and "score" in frame.columns else None
    wanted = {"user": columns.user, "item": columns.item}
    wanted |= {"place": place} if place else {}
    wanted |= {"score": score} if score else {}
    for role, name in wanted.items():
        if name not in frame.columns:
            raise DataError(f"there is no column {name!r} for the {role}{near(name, frame.columns)}", where=role)
    kept = frame.select(**{role: pl.col(name) for role, name in wanted.items()})
    kept = kept.with_columns(pl.col("user", "item").cast(pl.String))
    return _numbers(kept, [role for role in ("place", "score") if role in wanted])


def _numbers(frame: pl.DataFrame, roles: list[str]) -> pl.DataFrame:
    """Places and scores as numbers; text that is none is null, which is reported with its row later."""
    kept = frame.with_columns(pl.col(roles).cast(pl.Float64, strict=False)) if roles else frame
    return kept.with_columns(pl.col("user", "item").replace("", None))
