"""gleaner shelf refresh, and what became of refreshes."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from gleaner.cli.common import ago, console, emit, follow_job, table, with_client

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.shelves.refreshes import Refresh, Refreshes

STATES = {
    "published": "[green]published[/]",
    "kept": "[yellow]kept[/]",
    "refused": "[red]refused[/]",
    "failed": "[red]failed[/]",
}


@click.command()
@click.argument("shelf")
@click.option("--only-judge", is_flag=True, help="Judge, and publish nothing.")
@with_client
def refresh(client: Client, shelf: str, only_judge: bool, as_json: bool) -> None:
    """Refresh a shelf now, whatever its file says of times: events into a version of the data, models fitted anew,
    judged by the shelf's guard, and served if they pass.

    \b
    Examples:
      gleaner shelf refresh for-growers
      gleaner shelf refresh for-growers --only-judge
    """
    from gleaner.client import shelf_calls
    from gleaner.wire.shelves.refreshes import Refresh

    job = follow_job(client, client.send(shelf_calls.refresh_shelf(shelf, only_judge=only_judge)).id, quiet=as_json)
    started = Refresh.model_validate(job.result)
    emit(started, as_json, lambda: _show(started))


def _show(refresh: Refresh) -> None:
    out = console()
    if refresh.data is not None:
        events = "" if refresh.events is None else f", {refresh.events:,} events taken in"
        out.print(f"data: {refresh.data}{events}")
    if refresh.guard is not None:
        verdict = "[green]passed[/]" if refresh.guard.passed else "[yellow]not passed[/]"
        out.print(f"guard {verdict}: {refresh.guard.said}", soft_wrap=True)
    for old, new in refresh.models.items():
        out.print(f"fitted on everything: {old} became {new}")
    if refresh.published is not None:
        back = f"`gleaner shelf rollback {refresh.shelf}` goes back"
        out.print(f"[bold]{refresh.published}[/] is served, from {refresh.began_from}; {back}", soft_wrap=True)
    else:
        guard_sentence = "" if refresh.guard is None else f"{refresh.guard.said}; "
        reason = (refresh.reason or "").removeprefix(guard_sentence)
        out.print(f"{STATES.get(refresh.state, refresh.state)}: {reason}", soft_wrap=True)


@click.command()
@click.argument("shelf")
@click.option("-n", "limit", default=10, show_default=True, type=click.IntRange(1, 500), help="How many, newest first.")
@with_client
def refreshes(client: Client, shelf: str, limit: int, as_json: bool) -> None:
    """What became of the refreshes of a shelf, and when the next is due.

    \b
    Example:
      gleaner shelf refreshes for-growers
    """
    from gleaner.client import shelf_calls

    log = client.send(shelf_calls.refreshes(shelf, limit=limit))
    emit(log, as_json, lambda: _show_all(log))


def _show_all(log: Refreshes) -> None:
    out = console()
    if not log.refreshes.items:
        out.print(f"{log.shelf} was never refreshed; `gleaner shelf refresh {log.shelf}` does it now")
    else:
        rows = table(
            "when", "from", "data", "events", "figure", "before", "ended", right=("events", "figure", "before")
        )
        for each in log.refreshes.items:
            guard = each.guard
            figures = ("", "") if guard is None or guard.new is None or guard.current is None else (
                f"{guard.new.mean:.4f}", f"{guard.current.mean:.4f}")  # fmt: skip
            events = "" if each.events is None else f"{each.events:,}"
            ended = f"{STATES.get(each.state, each.state)} {each.published or ''}"
            rows.add_row(ago(each.created_at), each.began_from, each.data or "", events, *figures, ended)
        out.print(rows)
        if reason := log.refreshes.items[0].reason:
            out.print(f"the newest: {reason}", soft_wrap=True)
    when = "none is planned: the file names no `refresh.every`" if log.next_at is None else (
        f"the next is due {log.next_at:%Y-%m-%d %H:%M} UTC")  # fmt: skip
    out.print(f"[dim]{when}[/]")
