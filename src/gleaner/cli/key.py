"""gleaner key"""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from gleaner.cli.common import ago, console, emit, table, with_client

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.keys import Key

SCOPES = ("serve", "events", "build", "admin")


@click.group(name="key")
def command() -> None:
    """Make and revoke keys."""


@command.command()
@click.argument("name")
@click.option("--scope", "scopes", multiple=True, required=True, type=click.Choice(SCOPES), help="May be repeated.")
@with_client
def create(client: Client, name: str, scopes: tuple[str, ...], as_json: bool) -> None:
    """Make a key. Its secret is shown this once.

    \b
    Example:
      gleaner key create web-shop --scope serve --scope events
    """
    from gleaner.client import service_calls
    from gleaner.wire.keys import KeyRequest, Scope

    made = client.send(
        service_calls.create_key(KeyRequest.model_construct(name=name, scopes=[Scope(s) for s in scopes]))
    )
    emit(made, as_json, lambda: click.echo(f"{made.secret}\nkeep it now: it is not shown again"))


@command.command(name="list")
@with_client
def list_(client: Client, as_json: bool) -> None:
    """List keys, without their secrets.

    \b
    Example:
      gleaner key list
    """
    from gleaner.client import service_calls

    found = client.send(service_calls.list_keys()).items
    emit(found, as_json, lambda: _show_list(found))


def _show_list(found: list[Key]) -> None:
    rows = table("key", "scopes", "made", "revoked")
    for each in found:
        rows.add_row(
            each.name,
            ", ".join(each.scopes),
            ago(each.created_at),
            ago(each.revoked_at) if each.revoked_at else "",
        )
    console().print(rows if found else "no keys yet; on loopback none is needed")


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
