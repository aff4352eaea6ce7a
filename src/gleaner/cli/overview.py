"""gleaner overview"""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from gleaner.cli.common import ago, console, emit, table, with_client

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.overview import Overview, ServedShelf


@click.command(name="overview")
@with_client
def command(client: Client, as_json: bool) -> None:
    """Show what is served and how it does, what runs, and what needs attention.

    \b
    Example:
      gleaner overview
    """
    from gleaner.client import service_calls

    answer = client.send(service_calls.overview())
    emit(answer, as_json, lambda: _show(answer))


def _show(overview: Overview) -> None:
    out, totals = console(), overview.totals
    out.print(f"{totals.datasets:,} datasets, {totals.runs:,} contest runs, {totals.models:,} models, "
              f"{totals.shelves:,} shelves")  # fmt: skip
    if not overview.shelves:
        first = "gleaner data add" if not totals.datasets else "gleaner contest run"
        out.print(f"nothing is served yet; `{first}` is the next step")
    else:
        rows = table("serving", "data", "lists a day", "last hour", "by a fallback", "catalogue", "answered", "refresh",
                     right=("lists a day", "last hour", "by a fallback", "catalogue", "answered"))  # fmt: skip
        for each in overview.shelves:
            shares = [_percent(share) for share in (each.fallbacks, each.catalogue_shown, each.answered)]
            rows.add_row(
                each.serving, each.data, f"{each.lists:,}", f"{each.lists_last_hour:,}", *shares, _refresh(each)
            )
        out.print(rows)
    for route in overview.lists:
        out.print(
            f"{route.route}: half within {route.p50_ms:.1f} ms, 99 % within {route.p99_ms:.1f} ms", soft_wrap=True
        )
    for job in overview.running:
        out.print(
            f"job {job.id}, {job.kind} {job.subject}: {job.state}, {job.progress:.0%} {job.message}", soft_wrap=True
        )
    for told in overview.attention:
        out.print(f"[yellow]attention:[/] {told.text}", soft_wrap=True)


def _percent(share: float | None) -> str:
    return "" if share is None else f"{share:.0%}"


def _refresh(shelf: ServedShelf) -> str:
    parts = []
    if shelf.refresh is not None:
        parts.append(f"{shelf.refresh.state} {ago(shelf.refresh.created_at)}")
    if shelf.next_refresh_at is not None:
        parts.append(f"next {shelf.next_refresh_at:%Y-%m-%d %H:%M} UTC")
    return ", ".join(parts)
