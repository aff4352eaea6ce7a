"""gleaner data"""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from gleaner.cli.common import ago, all_pages, console, emit, table, with_client
from gleaner.cli.datasets import change, inspect_data
from gleaner.cli.datasets.add import add
from gleaner.cli.datasets.example import example
from gleaner.cli.datasets.find import find
from gleaner.cli.datasets.show import newest, show_profile, show_version

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.datasets import Dataset


class InOrder(click.Group):
    """Verbs in the order people meet them."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """As they were added."""
        return list(self.commands)


@click.group(name="data", cls=InOrder)
def command() -> None:
    """Bring interactions in and look at them."""


@click.command(name="list")
@click.option("-n", "limit", default=50, show_default=True, type=click.IntRange(1), help="How many datasets.")
@with_client
def list_(client: Client, as_json: bool, limit: int) -> None:
    """List datasets and their versions.

    \b
    Example:
      gleaner data list
    """
    from gleaner.client import data_calls

    datasets, more = all_pages(client, data_calls.list_datasets, limit)
    emit(datasets, as_json, lambda: _show_list(datasets, more))


def _show_list(datasets: list[Dataset], more: bool) -> None:
    out = console()
    if not datasets:
        out.print("no datasets yet; `gleaner data add` brings one in")
        return
    rows = table("version", "rows", "users", "items", "imported", "content hash", right=("rows", "users", "items"))
    for dataset in datasets:
        for version in dataset.versions:
            counts = (f"{version.rows:,}", f"{version.users:,}", f"{version.items:,}")
            rows.add_row(version.name, *counts, ago(version.created_at), version.content_hash[:12])
    out.print(rows)
    if more:
        out.print("there are more; -n shows them")


@click.command()
@click.argument("version")
@with_client
def show(client: Client, version: str, as_json: bool) -> None:
    """Show one version: counts, activity, time span, what import found. VERSION is seeds@1, or seeds for the newest.

    \b
    Example:
      gleaner data show seeds@1
    """
    dataset_version = newest(client, version)
    emit(dataset_version, as_json, lambda: show_version(dataset_version))


@click.command()
@click.argument("version")
@with_client
def profile(client: Client, version: str, as_json: bool) -> None:
    """Show the profile of one version with small plots: long tail, activity, values, time.

    \b
    Example:
      gleaner data profile seeds
    """
    dataset_version = newest(client, version)
    emit(dataset_version.profile, as_json, lambda: show_profile(dataset_version))


VERBS = (
    add, example, list_, show, profile, find, inspect_data.preview, inspect_data.sql, inspect_data.item,
    inspect_data.overlap, inspect_data.features, change.split_command, change.compare, inspect_data.export,
    change.change, change.remove, change.forget,
)  # fmt: skip
for verb in VERBS:
    command.add_command(verb)
