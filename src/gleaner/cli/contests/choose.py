"""gleaner contest choose, release"""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from gleaner.cli.common import console, emit, follow_job, table, with_client

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.contests.choosing import Choice

AGAINST = click.option(
    "--against", metavar="FIGURE", help="Weigh against a metric of the run, fit_seconds, list_ms or peak_memory_mb."
)


@click.command()
@click.argument("run_name", metavar="RUN")
@AGAINST
@with_client
def choose(client: Client, run_name: str, against: str | None, as_json: bool) -> None:
    """Say which contender to release and why: the best on validation, or of all that cannot be told from it the best
    in another figure.

    \b
    Example:
      gleaner contest choose first-look --against coverage@10
    """
    from gleaner.client import contest_calls

    choice = client.send(contest_calls.choice(run_name, against))
    emit(choice, as_json, lambda: show_choice(choice))


@click.command()
@click.argument("run_name", metavar="RUN")
@click.option("--contender", help="This one, whatever choosing says.")
@AGAINST
@click.option("--data", help="Another version of the data than the run's.")
@click.option("--name", help="Name of the model.  [CONTEST.CONTENDER]")
@click.option("--confirm", is_flag=True, help="Train although the estimate is over a limit.")
@with_client
def release(
    client: Client,
    run_name: str,
    contender: str | None,
    against: str | None,
    data: str | None,
    name: str | None,
    confirm: bool,
    as_json: bool,
) -> None:
    """Fit the chosen contender on every row, with the parameters that were found, ready to be served.

    \b
    Example:
      gleaner contest release first-look --against list_ms --name for-growers
    """
    from gleaner.cli.models.commands import show_card
    from gleaner.client import contest_calls, model_calls
    from gleaner.wire.contests.choosing import ReleaseRequest

    if contender is not None and against is not None:
        raise click.UsageError("--against chooses, and --contender has chosen: name one")
    request = ReleaseRequest(contender=contender, against=against, data=data, name=name, confirm=confirm)
    job = follow_job(client, client.send(contest_calls.release(run_name, request)).id, quiet=as_json)
    assert job.result is not None
    card, fallback = client.send(model_calls.model(job.result["model"])), job.result.get("fallback")

    def show() -> None:
        show_card(card)
        if fallback is not None:
            console().print(f"fallback fitted on the same rows: {fallback}")

    emit(card, as_json, show)


def show_choice(choice: Choice) -> None:
    """A line per contender, then the reason and the command."""
    out = console()
    names = ["contender", choice.metric, "level with the best"]
    names += [choice.against, "on the frontier"] if choice.against else []
    rows = table(*names, right=(choice.metric, choice.against or ""))
    for point in choice.points:
        mark = f"[bold]{point.contender}[/] ★" if point.contender == choice.chosen else point.contender
        cells = [mark, f"{point.figure:.4f}", "yes" if point.level else ""]
        if choice.against:
            cells += ["" if point.against is None else f"{point.against:.4g}", "yes" if point.on_frontier else ""]
        rows.add_row(*cells)
    out.print(f"[bold]{choice.run}[/], chosen on the {choice.part} part; the test part chooses nothing")
    out.print(rows)
    out.print(choice.why, soft_wrap=True)
    against = f" --against {choice.against}" if choice.against else ""
    out.print(f"[dim]fit it on every row: gleaner contest release {choice.run}{against}[/]", soft_wrap=True)
