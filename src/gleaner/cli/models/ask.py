"""What can be asked of a model: lists in four directions, values, explanations, factors."""

from __future__ import annotations

import csv
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from gleaner.cli.common import console, emit, follow_job, named_value, table, with_client
from gleaner.cli.lists.places import plain_cell, show_places

if TYPE_CHECKING:
    from collections.abc import Iterable

    from gleaner.client import Client
    from gleaner.wire.models import (
        Audience,
        Average,
        FactorsReport,
        ModelExplanation,
        ModelList,
        ModelLists,
        Ratings,
        Similar,
    )

BATCH = 10_000
TOP = click.option("-n", "n", default=10, show_default=True, type=click.IntRange(1, 1000), help="How many.")
KNOWN = click.option("--include-known", is_flag=True, help="Keep what they have already.")
ITEM_WHERE = click.option("--where", help="SQL condition over item columns.")
USER_WHERE = click.option("--where", help="SQL condition over user columns.")
FILE = click.Path(exists=True, dir_okay=False, path_type=Path)
MOST_NAMES = 3


@click.command()
@click.argument("model")
@click.option("--user", "users", multiple=True, help="A user's id; repeat for several.")
@click.option("--item", "items", multiple=True, help="Instead of users: what someone new has touched; repeat.")
@click.option("--candidate", "candidates", multiple=True, help="Put only these items in order; repeat.")
@TOP
@ITEM_WHERE
@KNOWN
@with_client
def recommend(
    client: Client, model: str, as_json: bool, users: tuple[str, ...], items: tuple[str, ...], **options: Any
) -> None:
    """The model's best items for users it was trained on, or for someone new from a few items.

    \b
    Examples:
      gleaner model recommend first-look.als --user g-0417 -n 10
      gleaner model recommend first-look.als --user g-0417 --where "stock > 0 AND family IN ('kale', 'pea')"
      gleaner model recommend first-look.als --item v-0007 --item v-0120
      gleaner model recommend first-look.als --user g-0417 --candidate v-0007 --candidate v-0120
    """
    from gleaner.client import model_calls
    from gleaner.wire.models import ListsRequest

    if bool(users) == bool(items):
        raise click.UsageError("give --user, or --item for someone new, one of the two")
    candidates = options.pop("candidates")
    if len(users) == 1 and not candidates:
        answer = client.send(model_calls.model_recommend(model, users[0], **options))
        emit(answer, as_json, lambda: _show_recommended(answer))
        return
    body = ListsRequest(users=list(users), items=list(items), candidates=list(candidates) or None, **options)
    lists = client.send(model_calls.model_lists(model, body))
    emit(lists, as_json, lambda: _show_lists(lists))


def _show_recommended(answer: ModelList) -> None:
    out = console()
    holds = "" if answer.where_keeps is None else f"; the condition holds for {answer.where_keeps:,} items"
    left_out = f"; {answer.left_out} items they have already are left out" if answer.left_out else ""
    out.print(f"[bold]{answer.model}[/] for {answer.user}{holds}{left_out}")
    show_places(answer.list)
    if answer.note:
        out.print(answer.note)


def _show_lists(lists: ModelLists) -> None:
    out = console()
    for each in lists.lists:
        out.print(f"[bold]{lists.model}[/] for {each.user or 'someone new'}")
        show_places(each.list)
    if lists.unknown:
        out.print(f"not known to training: {', '.join(lists.unknown)}")


@click.command(name="all")
@click.argument("model")
@click.option(
    "--what", type=click.Choice(["items", "users", "similar_items", "similar_users"]), default="items",
    show_default=True, help="Items for every user, users for every item, or what is like every item or user.",
)  # fmt: skip
@TOP
@click.option("--where", help="SQL condition over the columns of what is listed.")
@KNOWN
@click.option("--out", required=True, type=click.Path(dir_okay=False, path_type=Path), help="Parquet file to write.")
@with_client
def all_(client: Client, model: str, out: Path, as_json: bool, **options: Any) -> None:
    """Lists for everybody, in any of the four directions, as one Parquet file.

    \b
    Example:
      gleaner model all first-look.als --what users -n 20 --out audiences.parquet
    """
    from gleaner.client import job_calls, model_calls
    from gleaner.wire.models import AllRequest

    if out.exists():
        raise click.UsageError(f"{out} is there already; name another place")
    if out.suffix != ".parquet":
        raise click.UsageError(
            f"--out is a Parquet file and {out.name} is not; `gleaner export` writes CSV and NDJSON too"
        )
    job = follow_job(client, client.send(model_calls.all_lists(model, AllRequest(**options))).id, quiet=as_json)
    assert job.result is not None
    client.save(job_calls.job_file(job.id), out)
    outcome = {name: job.result[name] for name in ("model", "what", "lists", "rows")} | {"out": str(out)}
    emit(
        outcome,
        as_json,
        lambda: click.echo(f"{outcome['rows']:,} rows, {outcome['lists']:,} lists of {outcome['what']}: {out}"),
    )


@click.command()
@click.argument("model")
@click.option("--item", "items", multiple=True, help="An item's id; repeat for several.")
@click.option("--user", "users", multiple=True, help="Instead of items: users who touched a new item; repeat.")
@TOP
@USER_WHERE
@KNOWN
@with_client
def audience(client: Client, model: str, as_json: bool, **options: Any) -> None:
    """The users who would like an item most: one the model knows, or a new one from users who touched it.

    \b
    Examples:
      gleaner model audience first-look.als --item v-0007 -n 10
      gleaner model audience first-look.als --item v-0007 --where "zone = 'Z4'"
      gleaner model audience first-look.als --user g-0417 --user g-0033
    """
    from gleaner.client import model_calls
    from gleaner.wire.models import AudienceRequest

    if bool(options["users"]) == bool(options["items"]):
        raise click.UsageError("give --item, or --user for a new item, one of the two")
    given = options | {"users": list(options["users"]), "items": list(options["items"])}
    audiences = client.send(model_calls.audiences(model, AudienceRequest(**given)))
    emit(audiences, as_json, lambda: _show_audiences(audiences))


def _show_audiences(audiences: list[Audience]) -> None:
    out = console()
    for each in audiences:
        holds = "" if each.where_keeps is None else f"; the condition holds for {each.where_keeps:,} users"
        out.print(f"[bold]{each.model}[/]: users for {each.item or 'the new item'}{holds}")
        names = list(each.users[0].columns)[:MOST_NAMES] if each.users else []
        rows = table("", "user", "score", *names, right=("", "score"))
        for liked in each.users:
            rows.add_row(str(liked.position), liked.user, f"{liked.score:.4f}", *_cells(liked.columns, names))
        out.print(rows)


def _cells(columns: dict[str, Any], names: Iterable[str]) -> list[str]:
    return [plain_cell(columns.get(name)) for name in names]


@click.command()
@click.argument("model")
@click.option("--item", help="An item's id.")
@click.option("--user", help="A user's id.")
@TOP
@click.option("--where", help="SQL condition over item, or user, columns.")
@with_client
def similar(client: Client, model: str, as_json: bool, item: str | None, user: str | None, n: int, where: str) -> None:
    """Items like an item, or users like a user, as the model sees them.

    \b
    Examples:
      gleaner model similar first-look.als --item v-0007
      gleaner model similar first-look.als --user g-0417 -n 5
    """
    from gleaner.client import model_calls

    if (item is None) == (user is None):
        raise click.UsageError("give --item or --user, one of the two")
    side, of = ("item", item) if item is not None else ("user", user)
    alike = client.send(model_calls.similar(model, side, of or "", n, where=where))
    emit(alike, as_json, lambda: _show_similar(alike))


def _show_similar(similar: Similar) -> None:
    out = console()
    out.print(f"[bold]{similar.model}[/]: {similar.side}s like {similar.id}, by {similar.by}")
    names = [name for name in (similar.list[0].columns if similar.list else {}) if _fits(similar, name)][:MOST_NAMES]
    by_hand = ["raw", "overlap"] if similar.list and similar.list[0].raw is not None else []
    rows = table("", similar.side, "likeness", *by_hand, *names, right=("", "likeness", *by_hand))
    for each in similar.list:
        redone = [f"{each.raw:.4f}", f"{each.overlap:,}"] if by_hand else []
        rows.add_row(str(each.position), each.id, f"{each.likeness:.4f}", *redone, *_cells(each.columns, names))
    out.print(rows)


def _fits(similar: Similar, name: str) -> bool:
    return max(len(str(each.columns.get(name) or "")) for each in similar.list) <= 40


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
    """The value a user would give an item, on the declared scale; of one pair, or of a table of them.

    \b
    Examples:
      gleaner model rate ratings.als_values --user g-0417 --item v-0007
      gleaner model rate ratings.fm_values --user g-0417 --item v-0007 --context plot=shade
      gleaner model rate ratings.als_values --pairs pairs.csv --out rated.csv
    """
    from gleaner.client import model_calls
    from gleaner.wire.models import Pair

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
    from gleaner.wire.models import Pair

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

    rows = [
        (each.user, each.item, float(f"{each.value:.6g}"), each.answerable, each.reason, each.fell_back_on)
        for each in ratings.ratings
    ]
    names = ["user", "item", "value", "answerable", "reason", "fell_back_on"]
    kinds = [pl.String, pl.String, pl.Float64, pl.Boolean, pl.String, pl.String]
    frame = pl.DataFrame(rows, schema=dict(zip(names, kinds, strict=True)), orient="row")
    shown_cells(frame)[0].write_csv(out)


def _show_ratings(ratings: Ratings, out: Path | None) -> None:
    to = console()
    low, high = ratings.scale
    answered = sum(each.answerable for each in ratings.ratings)
    count = f"{answered:,} of {len(ratings.ratings):,} could be answered"
    to.print(f"[bold]{ratings.model}[/], on the scale {low:g} to {high:g}: {count}")
    if out is not None:
        to.print(f"written to {out}")
        return
    rows = table("user", "item", "value", "answerable", right=("value",))
    for each in ratings.ratings[:50]:
        why = "yes" if each.answerable else f"no: {each.reason}; {each.fell_back_on} instead"
        rows.add_row(each.user, each.item, f"{each.value:.2f}", why)
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


@click.command()
@click.argument("model")
@click.option("--user", required=True, help="The user's id.")
@click.option("--item", required=True, help="The item's id.")
@click.option("-n", "n", default=15, show_default=True, type=click.IntRange(1, 1000), help="How many terms.")
@with_client
def explain(client: Client, model: str, as_json: bool, user: str, item: str, n: int) -> None:
    """Why a user gets a score for an item: a sum to redo by hand where the method is one, else the nearest items.

    \b
    Example:
      gleaner model explain first-look.als --user g-0417 --item v-0007
    """
    from gleaner.client import model_calls

    explanation = client.send(model_calls.explain(model, user, item, n))
    emit(explanation, as_json, lambda: _show_explanation(explanation))


def _show_explanation(explanation: ModelExplanation) -> None:
    out = console()
    out.print(f"[bold]{explanation.model}[/]: {explanation.item} for {explanation.user}, score {explanation.score:.4f}")
    out.print(f"adds = {explanation.formula}" if explanation.kind == "sum" else explanation.formula)
    names = list(explanation.terms[0].columns) if explanation.terms else []
    called = ["name"] if any(term.name for term in explanation.terms) else []
    rows = table(explanation.side, *called, *names, right=tuple(names))
    for term in explanation.terms:
        cells = [_plain(name, term.columns.get(name)) for name in names]
        rows.add_row(term.id, *[term.name or ""] * len(called), *cells)
    out.print(rows)
    if explanation.result is not None:
        begins = "where every pair begins" if explanation.side == "input" else "the mean"
        start = f"{explanation.start:.4f} ({begins}) + " if explanation.start else ""
        value = "" if explanation.value is None else f"; on the scale {explanation.value:.2f}"
        out.print(f"{start}sum of adds {explanation.result - explanation.start:.4f} = {explanation.result:.4f}{value}")
        if explanation.apart:
            out.print(explanation.apart)


def _plain(name: str, value: float | None) -> str:
    if value is None:
        return ""
    return f"{value:,.0f}" if name == "overlap" else f"{value:.4f}"


@click.command()
@click.argument("model")
@click.option("-n", "n", default=3, show_default=True, type=click.IntRange(1, 50), help="Items at each end.")
@click.option("--factors", "most", default=6, show_default=True, type=click.IntRange(1), help="How many factors.")
@with_client
def factors(client: Client, model: str, as_json: bool, n: int, most: int) -> None:
    """What the factors of a model stand for: share of variance, and the items at both ends.

    \b
    Example:
      gleaner model factors first-look.als
    """
    from gleaner.client import model_calls

    report = client.send(model_calls.factors(model, n))
    emit(report, as_json, lambda: _show_factors(report, most))


def _show_factors(report: FactorsReport, most: int) -> None:
    out = console()
    shown = report.factors[:most]
    out.print(f"[bold]{report.model}[/]: {len(report.factors)} factors, turned to their principal axes")
    rows = table("", "share", "one end", "other end", right=("", "share"))
    for each in shown:
        ends = ["\n".join(f"{end.name or end.item} {end.at:+.2f}" for end in side) for side in (each.top, each.bottom)]
        rows.add_row(str(each.factor), f"{each.share:.1%}", *ends)
    out.print(rows)
    if len(report.factors) > most:
        out.print(f"{len(report.factors) - most} more hold {sum(each.share for each in report.factors[most:]):.1%}")
