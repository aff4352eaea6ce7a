"""gleaner shelf evaluate"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gleaner.cli.common import emit, follow_job, with_client
from gleaner.cli.contests.commands import read_file

if TYPE_CHECKING:
    from gleaner.client import Client

SUFFIXES = (".yaml", ".yml")


@click.command()
@click.argument("shelf")
@click.option("--beside", metavar="RUN", required=True, help="Evaluate on the test part of this run.")
@click.option("--users", default=5_000, show_default=True, type=click.IntRange(1, 1_000_000), help="At most so many.")
@with_client
def evaluate(client: Client, shelf: str, beside: str, users: int, as_json: bool) -> None:
    """Evaluate a shelf, published or a FILE.yaml, before anyone is served by it.

    Its models are fitted on what the test part of a contest's run leaves, and it lists for the users of that part. Told
    are the recall of the candidates, how well they are put in order, what slots, order and condition cost, and how the
    whole does beside the run's contenders.

    \b
    Examples:
      gleaner shelf evaluate for-growers --beside first-look
      gleaner shelf evaluate two-stages.yaml --beside stages
    """
    from gleaner.cli.shelves.evaluation import show_evaluation
    from gleaner.client import shelf_calls
    from gleaner.wire.contests.contest import FileRequest
    from gleaner.wire.shelves.evaluations import EvaluateShelfRequest

    path = Path(shelf)
    if path.suffix in SUFFIXES:
        if not path.is_file():
            raise click.BadParameter(f"there is no file {shelf}", param_hint="SHELF")
        file = FileRequest(file=read_file(path), name=path.name)
        request = EvaluateShelfRequest(file=file, beside=beside, users=users)
    else:
        request = EvaluateShelfRequest(shelf=shelf, beside=beside, users=users)
    job = follow_job(client, client.send(shelf_calls.evaluate_shelf(request)).id, quiet=as_json)
    evaluation = client.send(shelf_calls.shelf_evaluation(job.id))
    emit(evaluation, as_json, lambda: show_evaluation(evaluation))
