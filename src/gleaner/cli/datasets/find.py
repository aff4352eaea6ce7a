"""gleaner data find"""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from gleaner.cli.common import console, emit, table, with_client
from gleaner.cli.datasets.show import newest

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.datasets import ItemSummary, UserSummary


@click.command()
@click.argument("version")
@click.argument("text")
@click.option("--users", is_flag=True, help="Look for users, not for items.")
@click.option("-n", "limit", default=20, show_default=True, type=click.IntRange(1, 100), help="How many.")
@with_client
def find(client: Client, version: str, text: str, as_json: bool, users: bool, limit: int) -> None:
    """Find items, or users, whose id or any column of text holds TEXT, whatever the case.

    \b
    Example:
      gleaner data find seeds "ruby pepper"
    """
    from gleaner.client import data_calls

    known = newest(client, version)
    matches: list[ItemSummary] | list[UserSummary]
    if users:
        matches = client.send(data_calls.find_users(known.dataset, known.number, text, limit))
    else:
        matches = client.send(data_calls.find_items(known.dataset, known.number, text, limit))
    emit(matches, as_json, lambda: _show(matches))


def _show(matches: list[ItemSummary] | list[UserSummary]) -> None:
    out = console()
    if not matches:
        out.print("nothing is called so")
        return
    rows = table("id", "called", "rows", right=("rows",))
    for each in matches:
        rows.add_row(getattr(each, "item", None) or getattr(each, "user", ""), each.label or "", f"{each.rows:,}")
    out.print(rows)
