"""gleaner job"""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

import click

from gleaner.cli.common import ago, all_pages, console, emit, follow_job, table, with_client

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.jobs import Job, JobDetail, JobKind


@click.group(name="job")
def command() -> None:
    """Follow and cancel work."""


@command.command(name="list")
@click.option("-n", "limit", default=20, show_default=True, type=click.IntRange(1), help="How many jobs.")
@click.option("--kind", help="Only these: import, contest, train, export, ...")
@with_client
def list_(client: Client, as_json: bool, limit: int, kind: JobKind | None) -> None:
    """List jobs, newest first.

    \b
    Examples:
      gleaner job list
      gleaner job list --kind export
    """
    from gleaner.client import job_calls

    jobs, more = all_pages(client, partial(job_calls.list_jobs, kind=kind), limit)
    emit(jobs, as_json, lambda: _show_list(jobs, more))


def _show_list(jobs: list[Job], more: bool) -> None:
    out = console()
    if not jobs:
        out.print("no such jobs yet")
        return
    rows = table("job", "what", "state", "done", "began", "took", "MB", "message", right=("job", "done", "took", "MB"))
    for each in jobs:
        rows.add_row(
            str(each.id),
            f"{each.kind} {each.subject}",
            each.state,
            f"{each.progress:.0%}",
            ago(each.started_at) if each.started_at else "",
            _took(each),
            f"{each.peak_memory_mb:.0f}" if each.peak_memory_mb else "",
            each.problem.detail if each.problem else each.message,
        )
    out.print(rows)
    if more:
        out.print("there are more; -n shows them")


def _took(job: Job) -> str:
    if not (job.started_at and job.finished_at):
        return ""
    return f"{(job.finished_at - job.started_at).total_seconds():.1f} s"


@command.command()
@click.argument("job", type=int)
@with_client
def show(client: Client, job: int, as_json: bool) -> None:
    """Show a job with its log.

    \b
    Example:
      gleaner job show 3
    """
    from gleaner.client import job_calls

    detail = client.send(job_calls.job(job))
    emit(detail, as_json, lambda: _show(detail))


def _show(job: JobDetail) -> None:
    _show_list([job], more=False)
    for line in job.log:
        click.echo(f"{line.at.astimezone():%H:%M:%S}  {line.text}")


@command.command()
@click.argument("job", type=int)
@with_client
def watch(client: Client, job: int, as_json: bool) -> None:
    """Follow a job until it ends. Ctrl-C cancels it.

    \b
    Example:
      gleaner job watch 3
    """
    from gleaner.client import job_calls

    ended = follow_job(client, job, quiet=as_json)
    detail = client.send(job_calls.job(job))
    emit(ended, as_json, lambda: _show(detail))


@command.command()
@click.argument("job", type=int)
@with_client
def cancel(client: Client, job: int, as_json: bool) -> None:
    """Ask a job to stop.

    \b
    Example:
      gleaner job cancel 3
    """
    from gleaner.client import job_calls

    detail = client.send(job_calls.cancel_job(job))
    emit(
        detail,
        as_json,
        lambda: click.echo(f"job {job}: {'cancelled' if detail.state.ended else 'asked to stop'}"),
    )
