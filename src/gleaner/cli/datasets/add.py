"""gleaner data add"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from gleaner.cli.common import console, emit, follow_job, table, version_option, with_client
from gleaner.cli.datasets.mapping import PARTS, ROLES, UNKNOWN_ROLES, Mapping
from gleaner.cli.datasets.show import newest, show_look, show_version

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.imports import Proposal

FILE = click.Path(exists=True, dir_okay=False, path_type=Path)
PREVIEW_WIDTH = 24


@click.command()
@click.argument("name")
@click.argument("file", required=False)
@click.option("--user", help="Column with the user's id.")
@click.option("--item", help="Column with the item's id.")
@click.option("--value", help="Column with a rating, quantity or duration.")
@click.option("--kind", help="Column with the kind of interaction.")
@click.option(
    "--time",
    help="Column with the time: ISO 8601, day or month first, or epoch counts. The format of most cells is taken.",
)
@click.option("--context", multiple=True, metavar="COL", help="A column to keep beside each interaction. Repeatable.")
@click.option("--items", help="Table of items; its id column has the name given with --item.")
@click.option("--users", help="Table of users; its id column has the name given with --user.")
@click.option("--training", help="Instead of FILE: files split beforehand.")
@click.option("--validation", help="See --training.")
@click.option("--test", help="See --training.")
@click.option("--sep", help="What separates cells; \\t or tab for tabs. Left out: found from the first lines.")
@click.option("--no-header", is_flag=True, help="The first line holds data; columns are called f0, f1, ...")
@click.option("--no-quotes", is_flag=True, help="Double quotes are plain characters, and enclose no cells.")
@click.option("--format", "form", help="csv, parquet, arrow, ndjson, json or xlsx. Left out: by the file's name.")
@click.option("--sheet", help="Sheet of an XLSX workbook.")
@click.option("--wide", is_flag=True, help="Users down, items across; an empty cell is missing.")
@click.option("--table", "db_table", help="Table of the database that FILE (postgresql://...) names.")
@click.option("--query", help="SELECT to run in that database.")
@click.option("--time-format", help="How --time is written, such as '%d.%m.%Y %H:%M'; s, ms or us for epoch counts.")
@click.option("--time-zone", help="Zone of times that name none, such as Europe/Berlin.")
@click.option(
    "--type",
    "types",
    multiple=True,
    metavar="TABLE.COL=TYPE",
    help="A column's type, such as items.traits='categories |'.",
)
@click.option("--items-id", metavar="COL", help="Id column of --items, where it is called otherwise than --item.")
@click.option("--users-id", metavar="COL", help="Id column of --users, where it is called otherwise than --user.")
@click.option("--items-name", metavar="COL", help="Column of --items with what people call an item; stored as `name`.")
@click.option("--users-name", metavar="COL", help="Column of --users with what people call a user; stored as `name`.")
@click.option("--scale", nargs=2, type=float, metavar="LOW HIGH", help="The lowest and highest value there may be.")
@click.option(
    "--outside",
    type=click.Choice(["refuse", "drop", "clip"]),
    help="What becomes of rows with a value outside --scale. [refuse; with --strictness lenient: drop]",
)
@click.option(
    "--strictness", type=click.Choice(["lenient", "normal", "strict"]), help="What to do about bad rows and warnings."
)
@click.option(
    "--onto",
    metavar="VERSION",
    help="Add the rows to this version: seeds@1, or 1. Without FILE, --items and --users renew its tables.",
)
@click.option("--map", "mapping", type=FILE, help="YAML file with roles, sources, types and derived columns.")
@click.option("--only-look", is_flag=True, help="Say what an import would keep, drop and find; keep nothing.")
@click.option("--yes", is_flag=True, help="Take the proposed roles without asking.")
@with_client
def add(client: Client, name: str, file: str | None, as_json: bool, **options: Any) -> None:
    """Import FILE as the next version of dataset NAME.

    FILE is CSV, TSV, Parquet, Arrow, NDJSON, JSON or XLSX (also packed by gzip or zstd), a URL, or a database. Without
    --user and --item, roles are proposed with their reasons, and you confirm them.

    Ids are kept to the letter ("007" stays "007"), an empty value is missing and never zero, and nothing is kept unless
    all of it can be read.

    \b
    Example:
      gleaner data add seeds interactions.csv --user grower --item variety \\
          --kind kind --time at --value value --items varieties.csv --users growers.csv
    """
    from gleaner.client import data_calls

    mapping = _mapping(name, file, options)
    sent: dict[str, str] = {}
    if not _has_rows(mapping) and not _has_roles(mapping):
        onto = mapping.complete(roles=UNKNOWN_ROLES).onto
        assert onto is not None, "without rows there is one"
        base = client.send(data_calls.dataset_version(name, onto))
        mapping.roles(base.roles.named() | {"context": base.roles.context} | (mapping.request.get("roles") or {}))
    if not _has_roles(mapping):
        sent = _send_all(client, mapping, as_json)
        _confirm(client, mapping, sent, yes=options["yes"], quiet=as_json)
    mapping.complete()
    sent = sent or _send_all(client, mapping, as_json)
    request = mapping.complete(sent).model_copy(update={"only_look": options["only_look"]})
    job = client.send(data_calls.import_version(name, request))
    ended = follow_job(client, job.id, quiet=as_json)
    if request.only_look:
        look = client.send(data_calls.import_look(job.id))
        emit(look, as_json, lambda: show_look(look))
        return
    assert ended.result is not None
    version = newest(client, ended.result["version"])
    emit(version, as_json, lambda: show_version(version))


def _mapping(name: str, file: str | None, options: dict[str, Any]) -> Mapping:
    """The request so far, local files still by their paths."""
    mapping = Mapping(options["mapping"])
    if file is not None:
        mapping.put("interactions", file)
    for part in PARTS:
        if options[part]:
            mapping.put(f"parts.{part}", options[part])
    for side in ("items", "users"):
        if options[side]:
            mapping.put(side, options[side])
        for field in ("id", "name"):
            if options[f"{side}_{field}"]:
                if not mapping.request.get(side):
                    raise click.UsageError(f"--{side}-{field} goes with --{side}.")
                mapping.request[side][field] = options[f"{side}_{field}"]
    onto = options["onto"] or mapping.request.get("onto")
    if not _has_rows(mapping) and not (onto and (mapping.request.get("items") or mapping.request.get("users"))):
        raise click.UsageError(
            "Which file? Name one, or --training and --test, or --map with the sources; or --onto with --items or "
            "--users to renew its tables."
        )
    roles = {role: options[role] for role in ROLES if options[role]}
    mapping.roles(roles | ({"context": list(options["context"])} if options["context"] else {}))
    _reading(mapping, options)
    for key in ("scale", "strictness", "outside"):
        if options[key]:
            mapping.request[key] = options[key]
    if options["onto"]:
        written = options["onto"]
        # the number alone will do: there is no doubt of which dataset
        dataset, number = version_option(f"{name}@{written}" if written.isdigit() else written, "--onto")
        if dataset != name or number is None:
            raise click.BadParameter(f"{written!r} is no version of {name}; write {name}@1", param_hint="--onto")
        mapping.request["onto"] = number
    return mapping


def _reading(mapping: Mapping, options: dict[str, Any]) -> None:
    """How files are read: --sep and --no-header hold for all of them, the rest for the interactions."""
    rows = [
        source for place, source in mapping.sources().items() if place == "interactions" or place.startswith("parts.")
    ]
    given = {
        "format": options["form"],
        "sheet": options["sheet"],
        "table": options["db_table"],
        "query": options["query"],
    }
    for source in rows:
        source |= {key: value for key, value in given.items() if value}
        if options["wide"]:
            source["wide"] = True
        if options["time_format"] or options["time_zone"]:
            column = (mapping.request.get("roles") or {}).get("time")
            if not column:
                raise click.UsageError("--time-format and --time-zone go with --time.")
            step = {"time": column, "format": options["time_format"], "zone": options["time_zone"]}
            source["derive"] = [*source.get("derive", []), step]
    if options["wide"]:
        mapping.request["roles"] = {"item": "item", "value": "value"} | mapping.request["roles"]
    for source in mapping.sources().values():
        if options["sep"]:
            source["separator"] = {"\\t": "\t", "tab": "\t"}.get(options["sep"], options["sep"])
        if options["no_header"]:
            source["header"] = False
        if options["no_quotes"]:
            source["quotes"] = False
    for entry in options["types"]:
        column, equals, kind = entry.partition("=")
        place, dot, bare = column.partition(".")
        if not equals or (dot and place not in ("interactions", "items", "users")):
            raise click.BadParameter(f"{entry!r} is not like items.traits='categories |'", param_hint="--type")
        target = mapping.sources().get(place if dot else "interactions")
        if target is None:
            raise click.BadParameter(f"{entry!r}: there is no file of {place}", param_hint="--type")
        target.setdefault("types", {})[bare if dot else column] = kind


def _has_rows(mapping: Mapping) -> bool:
    return bool(mapping.request.get("interactions") or mapping.request.get("parts"))


def _has_roles(mapping: Mapping) -> bool:
    roles = mapping.request.get("roles") or {}
    return "user" in roles and "item" in roles


def _send_all(client: Client, mapping: Mapping, quiet: bool) -> dict[str, str]:
    return {place: _send(client, path, quiet) for place, path in mapping.files().items()}


def _send(client: Client, file: Path, quiet: bool) -> str:
    from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn

    from gleaner.client import data_calls

    if not file.is_file():
        raise click.UsageError(f"there is no file {str(file)!r}")
    err = console(stderr=True)
    columns = (TextColumn("{task.description}"), BarColumn(complete_style="green"), DownloadColumn())
    with Progress(*columns, console=err, disable=quiet or not err.is_terminal, transient=True) as bar:
        task = bar.add_task(f"sending {file.name}", total=file.stat().st_size)
        sent = client.send(data_calls.upload(file, on_sent=lambda size: bar.update(task, completed=size)))
    return sent.upload


def _confirm(client: Client, mapping: Mapping, sent: dict[str, str], *, yes: bool, quiet: bool) -> None:
    """Propose the roles that were not given, show why, and ask; without a terminal, say how to confirm."""
    import sys

    from gleaner.client import data_calls
    from gleaner.wire.imports import ProposalRequest

    given = mapping.request.get("roles") or {}
    mapping.request["roles"] = {"user": "?", "item": "? "} | given
    whole = mapping.complete(sent)
    first = whole.interactions or (whole.parts.training if whole.parts else None)
    assert first is not None
    proposal = client.send(
        data_calls.propose(
            ProposalRequest(interactions=first, items=whole.items, users=whole.users, tables=whole.tables)
        )
    )
    if proposal.problems:
        raise click.ClickException("\n".join(f"{each.field}: {each.message}" for each in proposal.problems))
    taken = {column for column in given.values() if isinstance(column, str)}
    proposed = {role: column for role, column in proposal.roles.items() if role not in given and column not in taken}
    mapping.request["roles"] = proposed | given
    for file in proposal.files:
        own = next((column.column for column in file.columns if column.type == "id" and column.role), None)
        if file.part in ("items", "users") and own is not None:
            mapping.request[file.part].setdefault("id", own)
        named = next((column.column for column in file.columns if column.role == "name"), None)
        if file.part in ("items", "users") and named is not None:
            mapping.request[file.part].setdefault("name", named)
    if not quiet:
        _show_proposal(proposal, mapping.request["roles"])
    missing = [role for role in ("user", "item") if role not in mapping.request["roles"]]
    if missing:
        raise click.UsageError(f"No column looks like the {missing[0]}; give --{missing[0]} COL.")
    if yes:
        return
    options = " ".join(f"--{role} {column}" for role, column in proposed.items())
    if not sys.stdin.isatty():
        raise click.UsageError(f"These roles are proposed, not confirmed: add {options}, or --yes.")
    click.confirm("Import so?", abort=True, err=True)


def _show_proposal(proposal: Proposal, roles: dict[str, Any]) -> None:
    out = console(stderr=True)
    of_column = {column: role for role, column in roles.items() if isinstance(column, str)}
    for file in proposal.files:
        details = ", ".join(f"{key} {value}" for key, value in file.details.items())
        out.print(f"[bold]{file.file}[/]  {file.format}{', ' + details if details else ''}")
        rows = table("column", "role", "type", "why", "such as", whole=("column",))
        for column in file.columns:
            role = of_column.get(column.column, "") if file.part == "interactions" else column.role or ""
            such = ", ".join(example[:PREVIEW_WIDTH] for example in column.examples[:2])
            left_out = "[dim]left out[/]" if file.part == "interactions" else ""
            rows.add_row(column.column, f"[green]{role}[/]" if role else left_out,
                         column.type, column.reason, such)  # fmt: skip
        out.print(rows)
