"""The `gleaner` command."""

from __future__ import annotations

import importlib
import sys
from difflib import get_close_matches

import click

from gleaner import __version__

NOUNS = {
    "up": "Start PostgreSQL, worker and web service, and keep them running.",
    "demo": "Run the full example on the Saltmarsh Seed Exchange.",
    "simulate": "Make a seed-exchange world of any size.",
    "overview": "See what is served, what runs and what needs attention.",
    "warm": "Compile every kernel ahead of its first use.",
    "data": "Bring interactions in and look at them.",
    "contest": "Compare models.",
    "model": "Look at trained models and ask them.",
    "lists": "Score lists made elsewhere, and analyse lists.",
    "shelf": "Publish and try what is served.",
    "events": "Send what users do as it happens, and watch it arrive.",
    "export": "Write files for other systems.",
    "job": "Follow and cancel work.",
    "backup": "Copy records and artefacts out.",
    "restore": "Put a backup into an empty state folder.",
    "key": "Make, rotate and revoke keys; see what was written.",
}

ROOMS = {
    "data": "datasets.commands",
    "contest": "contests.commands",
    "model": "models.commands",
    "lists": "lists.commands",
    "shelf": "shelves.commands",
}
"""Modules of the commands that have a room of their own."""


class Nouns(click.Group):
    """Commands by noun, each module imported only when it is used: `gleaner --help` must be instant."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """The nouns, in the order people meet them."""
        return list(NOUNS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """The command of a noun."""
        if cmd_name not in NOUNS:
            return None
        return importlib.import_module(f"gleaner.cli.{ROOMS.get(cmd_name, cmd_name)}").command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Add a suggestion to the error for a name that does not exist."""
        if args and args[0] not in NOUNS and not args[0].startswith("-"):
            near = get_close_matches(args[0], NOUNS, n=1)
            hint = f" Did you mean {near[0]!r}?" if near else f" There are: {', '.join(NOUNS)}."
            raise click.UsageError(f"There is no command {args[0]!r}.{hint}", ctx)
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """List the nouns without importing their modules."""
        with formatter.section("Commands"):
            formatter.write_dl(list(NOUNS.items()))


@click.group(cls=Nouns, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, prog_name="gleaner")
def command() -> None:
    """Gleaner: recommendations, from interactions to a served list.

    \b
    Example:
      gleaner data add seeds interactions.csv --user grower --item variety --kind kind --time at
    """


def run() -> None:
    """Entry point: errors become one message and an exit code."""
    try:
        code = command(prog_name="gleaner", standalone_mode=False)
        sys.exit(code if isinstance(code, int) else 0)
    except click.exceptions.Abort:
        click.echo("interrupted", err=True)
        sys.exit(130)
    except click.ClickException as error:
        error.show()
        sys.exit(error.exit_code)
    except Exception as error:
        sys.exit(_explain(error))


def _explain(error: Exception) -> int:
    """Show a deliberate error of ours and answer its exit code; anything else is a defect and keeps its traceback."""
    from gleaner.client.errors import AnsweredError, ClientError, JobFailedError

    if type(error).__name__ == "ValidationError" and hasattr(error, "errors"):
        # what was asked does not fit the API's own words: pydantic was imported to find out
        from gleaner.wire.fields import mistakes_of

        for path, text, given in mistakes_of(error):  # type: ignore[arg-type]
            short = f", not {given!r}" if isinstance(given, str | int | float) else ""
            click.echo(f"gleaner: {path}: {text}{short}", err=True)
        return 2
    if not isinstance(error, ClientError):
        raise error
    problems = error.problem.errors if isinstance(error, AnsweredError) else []
    if len(problems) > 1:
        # the answer's own sentence holds them all, one after the other: here each has a line of its own
        file = str(error).partition(":")[0] if all(each.line for each in problems) else ""
        click.echo(f"gleaner: {file + ': ' if file else ''}{len(problems)} mistakes", err=True)
        for each in problems:
            at = f"{file}:{each.line}: " if file else ""
            click.echo(f"  {at}{each.field}: {each.message}", err=True)
    else:
        click.echo(f"gleaner: {error}", err=True)
    return 3 if isinstance(error, JobFailedError) else 1
