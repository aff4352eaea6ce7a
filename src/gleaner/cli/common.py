"""Options and output that commands share. Data goes to standard output, messages to standard error."""

from __future__ import annotations

import functools
import json
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from gleaner.core.errors import InputError
from gleaner.wire.names import split_name

if TYPE_CHECKING:
    from pydantic import BaseModel
    from rich.console import Console

    from gleaner.cli.tables import FittedTable
    from gleaner.client import Client
    from gleaner.wire.contests.runs import ContestDraft
    from gleaner.wire.jobs import Job
    from gleaner.wire.shelves.shelf import ShelfDraft


STOP_LOOKS, STOP_PAUSE_S = 40, 0.25
"""How often, and how far apart, a job that was cancelled is looked at until it has ended."""

F = TypeVar("F", bound=Callable[..., Any])


def service_options(function: F) -> F:
    """--url and --key."""
    function = click.option("--key", envvar="GLEANER_KEY", help="Key for the service. [GLEANER_KEY]")(function)
    return click.option("--url", envvar="GLEANER_URL", help="Which service. [GLEANER_URL, http://127.0.0.1:8642]")(
        function
    )


def json_option(function: F) -> F:
    """--json."""
    return click.option("--json", "as_json", is_flag=True, help="Print the answer as JSON.")(function)


def with_client(function: Callable[..., Any]) -> Callable[..., Any]:
    """--url, --key and --json; the command gets an open client first."""

    @service_options
    @json_option
    @functools.wraps(function)
    def wrapped(url: str | None, key: str | None, **options: Any) -> Any:
        from gleaner.client import Client

        with Client(url, key) as client:
            return function(client, **options)

    return wrapped


def console(*, stderr: bool = False) -> Console:
    """Where to print. Tables keep their width when piped."""
    from gleaner.cli.sentences import SentenceConsole

    return SentenceConsole(stderr=stderr, highlight=False)


def table(*columns: str, right: tuple[str, ...] = (), whole: tuple[str, ...] = ()) -> FittedTable:
    """An empty table; `right` names the columns of figures, `whole` others whose cells are never broken."""
    from gleaner.cli.tables import FittedTable

    return FittedTable(columns, right, whole)


def emit(answer: BaseModel | list[Any] | dict[str, Any], as_json: bool, show: Callable[[], None]) -> None:
    """Print an answer as JSON, or for people."""
    if not as_json:
        show()
        return
    if isinstance(answer, list):
        plain: Any = [each.model_dump(mode="json") for each in answer]
    else:
        plain = answer if isinstance(answer, dict) else answer.model_dump(mode="json")
    click.echo(json.dumps(plain, ensure_ascii=False, indent=2))


def out_option(function: F) -> F:
    """--out of a command that drafts a file."""
    kind = click.Path(dir_okay=False, path_type=Path)
    return click.option("--out", type=kind, help="Write it there instead of printing it.")(function)


def require_new(out: Path | None) -> None:
    """Raise BadParameter where a draft would be written over a file."""
    if out is not None and out.exists():
        raise click.BadParameter(f"{out} is there already; name another file", param_hint="--out")


def hand_over(draft: ContestDraft | ShelfDraft, out: Path | None, noun: str, *, as_json: bool) -> None:
    """Print a drafted file, or write it and say what to do next."""
    if out is None:
        emit(draft, as_json, lambda: click.echo(draft.file, nl=False))
        return
    out.write_text(draft.file, encoding="utf-8")
    emit(draft, as_json, lambda: console().print(f"{out} is written; `gleaner {noun} check {out}` looks at it"))


def named_value(text: str, option: str) -> tuple[str, Any]:
    """NAME=VALUE, the value as JSON where it is JSON and as text where not."""
    name, sign, value = text.partition("=")
    if not sign or not name:
        raise click.UsageError(f"{option} takes NAME=VALUE, not {text!r}")
    try:
        return name, json.loads(value)
    except ValueError:
        return name, value


def follow_job(client: Client, job_id: int, *, quiet: bool) -> Job:
    """Show a job's progress on standard error until it ends; Ctrl-C cancels it. Raises JobFailedError."""
    from rich.progress import BarColumn, Progress, TaskProgressColumn, TextColumn, TimeRemainingColumn

    from gleaner.client import JobFailedError
    from gleaner.wire.jobs import JobState

    drawn = BarColumn(complete_style="green")
    columns = (TextColumn("{task.description}"), drawn, TaskProgressColumn(), TimeRemainingColumn())
    err = console(stderr=True)
    last = None
    try:
        with Progress(*columns, console=err, disable=quiet or not err.is_terminal, transient=True) as bar:
            task = bar.add_task(f"job {job_id}", total=1.0)
            for last in client.follow(job_id):
                bar.update(task, completed=last.progress, description=f"job {job_id}: {last.message or last.state}")
    except KeyboardInterrupt:
        stop_job(client, job_id)
        raise click.Abort from None
    assert last is not None
    if last.state is not JobState.DONE:
        raise JobFailedError(last)
    return last


def stop_job(client: Client, job_id: int) -> None:
    """Cancel a job and say what became of it: what it had kept by then, and how to go on."""
    from gleaner.client import contest_calls, job_calls

    client.send(job_calls.cancel_job(job_id))
    job = client.send(job_calls.job(job_id))
    for _ in range(STOP_LOOKS):
        if job.state.ended:
            break
        time.sleep(STOP_PAUSE_S)
        job = client.send(job_calls.job(job_id))
    name = f"job {job.id} ({job.kind} {job.subject})"
    if not job.state.ended:
        click.echo(f"{name} is being cancelled; `gleaner job show {job.id}` shows when it has ended", err=True)
        return
    if job.kind != "contest":
        kept = "nothing of it is kept" if job.state.value == "cancelled" else f"it had ended: {job.state}"
        click.echo(f"{name} is {job.state}; {kept}. The same command starts it again", err=True)
        return
    run = next((run for run in client.send(contest_calls.list_runs()).items if run.job == job.id), None)
    standings = [] if run is None else client.send(contest_calls.run(run.name)).standings
    models = [each.model for each in standings if each.model]
    kept = f"kept of it: {', '.join(models)}" if models else "no contender was finished, and nothing is kept"
    click.echo(f"{name} is {job.state}; {kept}", err=True)
    if models:
        click.echo("nothing serves these models; `gleaner model remove MODEL` takes one away", err=True)
    click.echo("`gleaner contest run` of the file begins a new run", err=True)


def all_pages(client: Client, call: Callable[..., Any], limit: int) -> tuple[list[Any], bool]:
    """Rows of a list up to a limit, and whether there are more."""
    rows: list[Any] = []
    after = None
    while len(rows) < limit:
        page = client.send(call(after=after, limit=min(limit - len(rows), 500)))
        rows += page.items
        after = page.next
        if after is None:
            return rows, False
    return rows, True


def ago(moment: Any) -> str:
    """A moment in local words: today the time, otherwise the date."""
    from datetime import datetime

    local = moment.astimezone()
    same_day = local.date() == datetime.now().astimezone().date()
    return local.strftime("%H:%M:%S" if same_day else "%Y-%m-%d %H:%M")


def version_option(reference: str, hint: str) -> tuple[str, int | None]:
    """A name with a number, or without one, from the command line; a mistake is a wrong use of the option `hint`."""
    try:
        return split_name(reference, "version such as seeds@1")
    except InputError as error:
        raise click.BadParameter(error.message, param_hint=hint) from None
