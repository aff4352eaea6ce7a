"""gleaner data example"""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from gleaner.cli.common import emit, follow_job, with_client
from gleaner.cli.datasets.show import newest, show_version

if TYPE_CHECKING:
    from gleaner.client import Client


@click.command()
@with_client
def example(client: Client, as_json: bool) -> None:
    """Bring in the data of a made-up seed exchange, to look around with.

    \b
    Example:
      gleaner data example
    """
    from gleaner.client import data_calls

    ended = follow_job(client, client.send(data_calls.bring_example_data()).id, quiet=as_json)
    assert ended.result is not None
    version = newest(client, ended.result["version"])
    emit(version, as_json, lambda: show_version(version))
