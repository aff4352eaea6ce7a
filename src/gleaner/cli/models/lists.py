"""Lists of a model: items for users, users for items, what is like an item or a user."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from gleaner.cli.common import console, emit, follow_job, table, with_client
from gleaner.cli.lists.places import plain_cell, show_places

if TYPE_CHECKING:
    from collections.abc import Iterable

    from gleaner.client import Client
    from gleaner.wire.models.lists import Audience, ModelList, ModelLists, Similar

TOP = click.option("-n", "n", default=10, show_default=True, type=click.IntRange(1, 1000), help="How many.")
KNOWN = click.option("--include-known", is_flag=True, help="Keep what they have already.")
VALUES = click.option(
    "--value", "values", multiple=True, type=float, help="A value that goes with each of these, in their order; repeat."
)
ITEM_WHERE = click.option("--where", help="SQL condition over item columns.")
USER_WHERE = click.option("--where", help="SQL condition over user columns.")
MOST_NAMES = 3


@click.command()
@click.argument("model")
@click.option("--user", "users", multiple=True, help="A user's id; repeat for several.")
@click.option("--item", "items", multiple=True, help="Instead of users: what someone new has touched; repeat.")
@VALUES
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
      gleaner model recommend first-look.als --item v-0007 --value 5 --item v-0120 --value 1
      gleaner model recommend first-look.als --user g-0417 --candidate v-0007 --candidate v-0120
    """
    from gleaner.client import model_calls
    from gleaner.wire.models.lists import ListsRequest

    if bool(users) == bool(items):
        raise click.UsageError("give --user, or --item for someone new, one of the two")
    candidates, values = options.pop("candidates"), _values(options.pop("values"), "--item", items)
    if len(users) == 1 and not candidates:
        answer = client.send(model_calls.model_recommend(model, users[0], **options))
        emit(answer, as_json, lambda: _show_recommended(answer))
        return
    body = ListsRequest(
        users=list(users), items=list(items), values=values, candidates=list(candidates) or None, **options
    )
    lists = client.send(model_calls.model_lists(model, body))
    emit(lists, as_json, lambda: _show_lists(lists))


def _values(values: tuple[float, ...], option: str, beside: tuple[str, ...]) -> list[float] | None:
    """The values beside what someone new, or a new item, has. Raises UsageError unless there is one for each."""
    if values and len(values) != len(beside):
        raise click.UsageError(f"--value goes with {option}: {len(values)} of one, {len(beside)} of the other")
    return list(values) or None


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
    from gleaner.wire.models.lists import AllRequest

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
@VALUES
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
    from gleaner.wire.models.lists import AudienceRequest

    if bool(options["users"]) == bool(options["items"]):
        raise click.UsageError("give --item, or --user for a new item, one of the two")
    values = _values(options["values"], "--user", options["users"])
    given = options | {"users": list(options["users"]), "items": list(options["items"]), "values": values}
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
