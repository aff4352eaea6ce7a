"""Values that a model predicts, and chances that users take items."""

from __future__ import annotations

import csv
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from gleaner.cli.common import console, emit, named_value, table, with_client

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.models.values import Average, Rating, Ratings

BATCH = 10_000
FILE = click.Path(exists=True, dir_okay=False, path_type=Path)


@click.command()
@click.argument("model")
@click.option("--user", help="The user's id.")
@click.option("--item", help="The item's id.")
@click.option("--pairs", type=FILE, help="CSV with user and item, and columns of the context, in place of one pair.")
@click.option("--context", "given", multiple=True, metavar="NAME=VALUE", help="A column of the interaction; repeat.")
@click.option("--out", type=click.Path(dir_okay=False, path_type=Path), help="Write the answers to this CSV.")
@with_client
def rate(
    client: Client,
    model: str,
    as_json: bool,
    user: str | None,
    item: str | None,
    pairs: Path | None,
    given: tuple[str, ...],
    out: Path | None,
) -> None:
    """The value a user would give an item, on the declared scale; or the chance that they take it, of a model
    that answers chances. Of one pair, or of a table of them.

    \b
    Examples:
      gleaner model rate ratings.als_values --user g-0417 --item v-0007
      gleaner model rate ratings.fm_values --user g-0417 --item v-0007 --context plot=shade
      gleaner model rate ratings.als_values --pairs pairs.csv --out rated.csv
      gleaner model rate first-look.logistic --user g-0417 --item v-0007
    """
    from gleaner.client import model_calls
    from gleaner.wire.models.values import Pair

    if (pairs is None) == (user is None or item is None) or (pairs is not None and (user or item)):
        raise click.UsageError("give --user and --item, or --pairs, one of the two")
    context = dict(named_value(each, "--context") for each in given)
    cells = [Pair(user=user or "", item=item or "", context=context)] if pairs is None else _pairs(pairs, context)
    batches = [client.send(model_calls.rate(model, cells[lo : lo + BATCH])) for lo in range(0, len(cells), BATCH)]
    ratings = batches[0].model_copy(update={"ratings": [each for batch in batches for each in batch.ratings]})
    if out is not None:
        _write(ratings, out)
    emit(ratings, as_json, lambda: _show_ratings(ratings, out))


def _pairs(path: Path, context: dict[str, Any]) -> list[Any]:
    """Pairs of a CSV file; further columns are context, over that of the command line, and an empty cell is missing."""
    from gleaner.wire.models.values import Pair

    with path.open(encoding="utf-8-sig", newline="") as file:
        reader = csv.DictReader(file)
        missing = {"user", "item"} - set(reader.fieldnames or ())
        if missing:
            has = ", ".join(reader.fieldnames or ()) or "none"
            raise click.UsageError(f"{path} has no column {sorted(missing)[0]!r}; it has: {has}")
        beside = [name for name in reader.fieldnames or () if name not in ("user", "item")]
        pairs = [
            Pair(
                user=row["user"] or "",
                item=row["item"] or "",
                context=context | {name: row[name] for name in beside if row[name]},
            )
            for row in reader
        ]
    if not pairs:
        raise click.UsageError(f"{path} has no rows")
    return pairs


def _write(ratings: Ratings, out: Path) -> None:
    """As CSV, with ids that a spreadsheet would run shown instead."""
    import polars as pl

    from gleaner.core.data.tables.csv_cells import shown_cells

    answers = [each.value if ratings.answers == "value" else each.likelihood for each in ratings.ratings]
    rows = [
        (each.user, each.item, None if answer is None else float(f"{answer:.6g}"), each.answerable, each.reason,
         each.fell_back_on)
        for each, answer in zip(ratings.ratings, answers, strict=True)
    ]  # fmt: skip
    names = ["user", "item", ratings.answers, "answerable", "reason", "fell_back_on"]
    kinds = [pl.String, pl.String, pl.Float64, pl.Boolean, pl.String, pl.String]
    frame = pl.DataFrame(rows, schema=dict(zip(names, kinds, strict=True)), orient="row")
    shown_cells(frame)[0].write_csv(out)


def _answer(rating: Rating) -> str:
    if rating.value is not None:
        return f"{rating.value:.2f}"
    return "" if rating.likelihood is None else f"{rating.likelihood:.2%}"


def _show_ratings(ratings: Ratings, out: Path | None) -> None:
    to = console()
    low, high = ratings.scale
    answered = sum(each.answerable for each in ratings.ratings)
    count = f"{answered:,} of {len(ratings.ratings):,} could be answered"
    by_value = ratings.answers == "value"
    what = f"on the scale {low:g} to {high:g}" if by_value else "the chance that the user takes the item when shown"
    to.print(f"[bold]{ratings.model}[/], {what}: {count}")
    if out is not None:
        to.print(f"written to {out}")
        return
    rows = table("user", "item", ratings.answers, "answerable", right=(ratings.answers,))
    for each in ratings.ratings[:50]:
        instead = f"; {each.fell_back_on} instead" if each.fell_back_on else ""
        why = "yes" if each.answerable else f"no: {each.reason}{instead}"
        rows.add_row(each.user, each.item, _answer(each), why)
    to.print(rows)
    if len(ratings.ratings) > 50:
        to.print("the first 50; --out writes all, --json prints them")


@click.command()
@click.argument("model")
@click.option("-n", "n", default=15, show_default=True, type=click.IntRange(1, 1000), help="How many items.")
@with_client
def averages(client: Client, model: str, as_json: bool, n: int) -> None:
    """Observed against predicted mean values of the items with the most values.

    \b
    Example:
      gleaner model averages ratings.als_values
    """
    from gleaner.client import model_calls

    means = client.send(model_calls.averages(model, n))
    emit(means, as_json, lambda: _show_averages(means))


def _show_averages(averages: list[Average]) -> None:
    rows = table("item", "values", "observed", "predicted", "gap", right=("values", "observed", "predicted", "gap"))
    for each in averages:
        gap = each.predicted - each.observed
        rows.add_row(each.item, f"{each.count:,}", f"{each.observed:.2f}", f"{each.predicted:.2f}", f"{gap:+.2f}")
    console().print(rows)
