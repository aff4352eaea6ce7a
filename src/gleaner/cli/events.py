"""gleaner events"""

from __future__ import annotations

import hashlib
import json
import time
from collections.abc import Iterator
from datetime import datetime
from typing import IO, TYPE_CHECKING, Any

import click

from gleaner.cli.common import ago, console, emit, follow_job, table, with_client
from gleaner.cli.datasets.show import SPARKS

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.events import Event, KeptEvent, LiveDrift, LiveState

BATCH = 1000
PAUSE_S = 0.5


@click.group(name="events")
def command() -> None:
    """Send what users do as it happens, and watch it arrive."""


@command.command()
@click.argument("data")
@click.argument("file", type=click.File("rb"), required=False)
@click.option("--user", help="Who.")
@click.option("--item", help="What they met.")
@click.option("--kind", help="How: one of the dataset's kinds.")
@click.option("--value", type=float, help="What it measures, where it does.")
@click.option("--time", "at", type=click.DateTime(["%Y-%m-%dT%H:%M:%S%z"]), help="When, as 2026-03-01T12:00:00Z.")
@click.option("--id", "name", help="Sent again with the same id it counts once.")
@click.option("--list", "list_id", help="The list it was shown in.")
@with_client
def send(
    client: Client, data: str, file: IO[bytes] | None, at: datetime | None, name: str | None, as_json: bool, **more: Any
) -> None:
    """Send one event to dataset DATA, or those in FILE: a JSON object a line, `-` for standard input.

    A line without an id is given one made of its place and text, so that a file may be sent again.

    \b
    Examples:
      gleaner events send seeds --user g-0417 --item v-0007 --kind save
      gleaner events send seeds today.ndjson
    """
    from gleaner.client import event_calls
    from gleaner.wire.events import Event

    given = {key: value for key, value in more.items() if value is not None}
    if file is None:
        if not {"user", "item"} <= given.keys():
            raise click.UsageError("Name a FILE, or one event by --user and --item.")
        batches = iter([[Event(id=name, time=at, **given)]])
    elif given or at or name:
        raise click.UsageError("Name a FILE or the options of one event, not both.")
    else:
        if file.seekable():
            for _ in _batches(file):  # a mistake is reported before anything is sent
                pass
            file.seek(0)
        batches = _batches(file)
    taken = repeated = 0
    notes: list[str] = []
    for batch in batches:
        answer = client.send(event_calls.send_events(data, batch, notes=file is None))
        taken, repeated = taken + answer.taken, repeated + answer.repeated
        notes += answer.notes
    sentence = f"{taken:,} kept" + (f", {repeated:,} were here before" if repeated else "")
    sentence = "\n".join([sentence, *notes])
    told = {"data": data, "taken": taken, "repeated": repeated} | ({"notes": notes} if notes else {})
    emit(told, as_json, lambda: console().print(sentence, soft_wrap=True, markup=False))


def _batches(file: IO[bytes]) -> Iterator[list[Event]]:
    from pydantic import ValidationError

    from gleaner.wire.events import Event
    from gleaner.wire.fields import sentence

    batch: list[Event] = []
    for number, line in enumerate(file, start=1):
        if not line.strip():
            continue
        line_hash = hashlib.sha256(b"%d %s" % (number, line.strip())).hexdigest()[:32]
        try:
            event = Event.model_validate_json(line)
        except ValidationError as error:
            first = error.errors()[0]
            at = ".".join(map(str, first["loc"]))
            place = f"{file.name}, line {number}{', ' + at if at else ''}"
            raise click.ClickException(f"{place}: {sentence(Event, dict(first))}") from error
        batch.append(
            event if event.id else event.model_copy(update={"id": line_hash, "source": event.source or "file"})
        )
        if len(batch) == BATCH:
            yield batch
            batch = []
    if batch:
        yield batch


@command.command()
@click.argument("data")
@click.option("--user", help="Of this user alone.")
@click.option("-n", "n", default=10, show_default=True, type=click.IntRange(1, 500), help="How many of the last.")
@click.option("--follow", is_flag=True, help="Go on with what comes, until interrupted.")
@with_client
def tail(client: Client, data: str, user: str | None, n: int, follow: bool, as_json: bool) -> None:
    """Show the last events of dataset DATA, in the order in which they were kept.

    \b
    Example:
      gleaner events tail seeds --follow
    """
    from gleaner.client import event_calls

    page = client.send(event_calls.list_events(data, user=user, limit=n))
    if not page.items and not follow:
        emit([], as_json, lambda: console().print("no events yet; `gleaner events send` sends one"))
        return
    if as_json and not follow:
        emit(page.items, as_json, lambda: None)
        return
    _show_events(page.items, as_json)
    while follow:
        page = client.send(event_calls.list_events(data, user=user, after=page.next, limit=500))
        _show_events(page.items, as_json)
        if not page.items:
            time.sleep(PAUSE_S)


def _show_events(events: list[KeptEvent], as_json: bool) -> None:
    for event in events:
        if as_json:
            click.echo(json.dumps(event.model_dump(mode="json"), ensure_ascii=False))
            continue
        value = "" if event.value is None else f" {event.value:g}"
        shown = f"  from list {event.list_id}" if event.list_id else ""
        click.echo(f"{ago(event.time):>16}  {event.user}  {event.kind or ''}{value}  {event.item}{shown}")


@command.command()
@click.argument("data")
@click.option("--days", default=1.0, show_default=True, type=float, help="How far back lists are looked at.")
@with_client
def live(client: Client, data: str, days: float, as_json: bool) -> None:
    """Show what came since the newest version of DATA was made, and what came back of its lists.

    \b
    Example:
      gleaner events live seeds
    """
    from gleaner.client import event_calls

    state = client.send(event_calls.live_state(data, days))
    emit(state, as_json, lambda: _show_live(state))


@command.command()
@click.argument("data")
@with_client
def gather(client: Client, data: str, as_json: bool) -> None:
    """Make the next version of DATA: its newest, with the events and the changed columns since.

    \b
    Example:
      gleaner events gather seeds
    """
    from gleaner.client import event_calls

    job = follow_job(client, client.send(event_calls.gather_events(data)).id, quiet=as_json)
    emit(job.result or {}, as_json, lambda: click.echo(job.message))


def _show_live(state: LiveState) -> None:
    out = console()
    kinds = ", ".join(f"{count:,} {kind}" for kind, count in state.by_kind.items() if kind)
    last = f"; the last {ago(state.last_at)}" if state.last_at else ""
    since = f"{state.events:,} since it was made{f' ({kinds})' if kinds else ''}{last}"
    out.print(f"[bold]{state.version}[/]  events: {since}", soft_wrap=True)
    for name, counts in (("events", state.events_per_minute), ("lists", state.lists_per_minute)):
        if most := max(counts):
            bars = "".join(SPARKS[round(count / most * (len(SPARKS) - 1))] if count else " " for count in counts)
            out.print(f"{name:>6}, last hour  {bars}  at most {most:,} a minute", soft_wrap=True)
    new = f"users {state.users_new:,}, items {state.items_new:,}"
    out.print(f"not in {state.version}: {new}; rows with changed columns: {state.changed_rows:,}", soft_wrap=True)
    if state.drift is not None:
        _show_drift(state.drift)
    if not state.lists:
        out.print("no list was served in that time")
        return
    figures = ("lists", "users", "fallback", "catalogue", "answered")
    rows = table("shelf", *figures, right=figures, whole=("shelf",))
    for each in state.lists:
        parts = (each.fallbacks / each.lists, each.items_shown / state.catalogue, each.answered / each.lists)
        rows.add_row(each.shelf, f"{each.lists:,}", f"{each.users:,}", *(f"{part:.1%}" for part in parts))
    out.print(rows)
    for each in state.lists:
        if each.events:
            places = " ".join(f"{count:,}" for count in each.by_place)
            out.print(f"{each.shelf}: {each.events:,} events on its lists; at places 1 to 10: {places}", soft_wrap=True)


def _show_drift(drift: LiveDrift) -> None:
    out = console()
    sentence = f"drift of popularity {drift.popularity:.3f} (by chance alone {drift.popularity_by_chance:.3f})"
    if drift.values is not None and drift.value_means:
        one, two = drift.value_means
        sentence += f", of values {drift.values:.3f} ({drift.values_by_chance:.3f}; mean {one:.2f}, now {two:.2f})"
    unknown = f"{drift.unknown_users:.1%} by unknown users, {drift.unknown_items:.1%} on unknown items"
    out.print(f"{sentence}; events {unknown}", soft_wrap=True)
