"""gleaner key"""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

import click

from gleaner.cli.common import ago, all_pages, console, emit, table, with_client

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.keys import Key, WriteEntry

SCOPES = ("serve", "events", "metrics", "build", "admin")


@click.group(name="key")
def command() -> None:
    """Make, rotate and revoke keys; see what was written with them."""


@command.command()
@click.argument("name")
@click.option("--scope", "scopes", multiple=True, required=True, type=click.Choice(SCOPES), help="May be repeated.")
@click.option("--days", type=float, help="End it after so many days; left out: never.")
@click.option("--per-minute", type=int, help="Calls a minute; left out: any number.")
@with_client
def create(
    client: Client, name: str, scopes: tuple[str, ...], days: float | None, per_minute: int | None, as_json: bool
) -> None:
    """Make a key. Its secret is shown this once.

    \b
    Example:
      gleaner key create web-shop --scope serve --scope events
    """
    from gleaner.client import service_calls
    from gleaner.wire.keys import KeyRequest, Scope

    wanted = [Scope(scope) for scope in scopes]
    request = KeyRequest.model_construct(name=name, scopes=wanted, days=days, per_minute=per_minute)
    key = client.send(service_calls.create_key(request))
    emit(key, as_json, lambda: click.echo(f"{key.secret}\nkeep it now: it is not shown again"))


@command.command(name="list")
@with_client
def list_(client: Client, as_json: bool) -> None:
    """List keys, without their secrets.

    \b
    Example:
      gleaner key list
    """
    from gleaner.client import service_calls

    keys = client.send(service_calls.list_keys()).items
    emit(keys, as_json, lambda: _show_list(keys))


def _show_list(keys: list[Key]) -> None:
    rows = table("key", "scopes", "made", "a minute", "ends", "", right=("a minute",), whole=("key",))
    for each in keys:
        limit = "" if each.per_minute is None else f"{each.per_minute:,}"
        ends = ago(each.expires_at) if each.expires_at else ""
        rows.add_row(each.name, ", ".join(each.scopes), ago(each.created_at), limit, ends, _state(each))
    console().print(rows if keys else "no keys yet; on loopback none is needed")


def _state(key: Key) -> str:
    from datetime import UTC, datetime

    now = datetime.now(UTC)
    if key.revoked_at:
        return f"revoked {ago(key.revoked_at)}"
    if key.expires_at and key.expires_at <= now:
        return "ended"
    if key.previous_until and key.previous_until > now:
        return f"the secret before opens until {ago(key.previous_until)}"
    return ""


@command.command()
@click.argument("name")
@click.option("--grace", default=60.0, show_default=True, help="Minutes for which the secret before still opens.")
@with_client
def rotate(client: Client, name: str, grace: float, as_json: bool) -> None:
    """Give a key a new secret; the one before opens for a while longer.

    \b
    Example:
      gleaner key rotate web-shop --grace 1440
    """
    from gleaner.client import service_calls

    key = client.send(service_calls.rotate_key(name, grace))
    emit(key, as_json, lambda: click.echo(f"{key.secret}\nkeep it now: it is not shown again"))


@command.command()
@click.option("--by", help="Of the key of this name alone.")
@click.option("-n", "limit", default=20, show_default=True, type=click.IntRange(1), help="How many.")
@with_client
def audit(client: Client, by: str | None, limit: int, as_json: bool) -> None:
    """Show what was written, by which key, newest first.

    \b
    Example:
      gleaner key audit -n 5
    """
    from gleaner.client import service_calls

    entries, more = all_pages(client, partial(service_calls.list_writes, key=by), limit)
    emit(entries, as_json, lambda: _show_audit(entries, more))


def _show_audit(entries: list[WriteEntry], more: bool) -> None:
    rows = table("at", "key", "from", "call", "request", whole=("at", "request"))
    for each in entries:
        rows.add_row(
            ago(each.at),
            each.key or "(this machine)",
            each.address or "",
            f"{each.method} {each.path}",
            each.request_id,
        )
    console().print(rows if entries else "nothing was written yet")
    if more:
        console().print("there are more; -n shows them")


@command.command()
@click.argument("name")
@with_client
def revoke(client: Client, name: str, as_json: bool) -> None:
    """End a key at once.

    \b
    Example:
      gleaner key revoke web-shop
    """
    from gleaner.client import service_calls

    ended = client.send(service_calls.revoke_key(name))
    emit(ended, as_json, lambda: click.echo(f"{ended.name} is revoked"))
