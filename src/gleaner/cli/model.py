"""gleaner model"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from gleaner.cli.common import ago, all_pages, console, emit, table, with_client
from gleaner.cli.places import show_places

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.models import ModelCard, ModelList, ModelSummary


@click.group(name="model")
def command() -> None:
    """Look at trained models and ask them."""


@command.command(name="list")
@click.option("-n", "limit", default=20, show_default=True, type=click.IntRange(1), help="How many models.")
@with_client
def list_(client: Client, as_json: bool, limit: int) -> None:
    """List models, newest first.

    \b
    Example:
      gleaner model list
    """
    from gleaner.client import calls

    found, more = all_pages(client, calls.list_models, limit)
    emit(found, as_json, lambda: _show_list(found, more))


def _show_list(found: list[ModelSummary], more: bool) -> None:
    out = console()
    if not found:
        out.print("no models yet; `gleaner contest run FILE.yaml` trains some")
        return
    names = ("model", "data", "users", "items", "cells", "test figure", "trained")
    rows = table(*names, right=("users", "items", "cells"), whole=("model",))
    for each in found:
        figure = f"{each.decided_by} {each.figures[each.decided_by]:.4f}"
        counts = (f"{each.users:,}", f"{each.items:,}", f"{each.cells:,}")
        rows.add_row(each.name, each.data, *counts, figure, ago(each.created_at))
    out.print(rows)
    if more:
        out.print("there are more; -n shows them")


@command.command()
@click.argument("model")
@with_client
def show(client: Client, model: str, as_json: bool) -> None:
    """Show a model's card: parameters, lineage, figures, cost.

    \b
    Example:
      gleaner model show first-look.als
    """
    from gleaner.client import calls

    found = client.send(calls.model(model))
    emit(found, as_json, lambda: _show_card(found))


def _show_card(card: ModelCard) -> None:
    out = console()
    out.print(f"[bold]{card.name}[/]  {card.summary}")
    rows = table("", "")
    rows.show_header = False
    rows.add_row("family", f"{card.family} ({card.feedback} feedback)")
    rows.add_row("parameters", ", ".join(f"{name} {value}" for name, value in card.params.items()) or "none")
    rows.add_row("trained on", f"{card.data}, {card.trained_on} parts, by run {card.run}")
    rows.add_row("matrix", f"{card.users:,} users x {card.items:,} items, {card.cells:,} cells")
    rows.add_row("preparation", ", ".join(f"{name} {value}" for name, value in card.prepare.items() if value))
    rows.add_row("split", ", ".join(f"{name} {value}" for name, value in card.split.items()))
    rows.add_row("test figures", ", ".join(f"{name} {value:.4f}" for name, value in card.figures.items()))
    rows.add_row("cost", f"{card.fit_seconds:.2f} s to fit, {card.peak_memory_mb:.0f} MB at most")
    rows.add_row("serves the unseen", "yes, by folding in their items" if card.folds_in else "no")
    rows.add_row("data hash", card.content_hash[:16])
    rows.add_row("made by", f"gleaner {card.code_version}, {ago(card.created_at)}")
    out.print(rows)


@command.command()
@click.argument("model")
@click.option("--user", required=True, help="The user's id.")
@click.option("-n", "n", default=10, show_default=True, type=int, help="How many items, 1 to 1000.")
@click.option("--where", help="SQL condition over item columns.")
@click.option("--include-known", is_flag=True, help="Keep items the user has already.")
@with_client
def recommend(client: Client, model: str, as_json: bool, **asked: Any) -> None:
    """The model's best items for a user it was trained on, without a shelf's rules.

    \b
    Examples:
      gleaner model recommend first-look.als --user g-0417 -n 10
      gleaner model recommend first-look.als --user g-0417 --where "stock > 0 AND family IN ('kale', 'pea')"
    """
    from gleaner.client import calls

    found = client.send(calls.model_recommend(model, **asked))
    emit(found, as_json, lambda: _show_recommended(found))


def _show_recommended(found: ModelList) -> None:
    out = console()
    holds = "" if found.where_keeps is None else f"; the condition holds for {found.where_keeps:,} items"
    left_out = f"; {found.left_out} items they have already are left out" if found.left_out else ""
    out.print(f"[bold]{found.model}[/] for {found.user}{holds}{left_out}")
    show_places(found.list)
    if found.note:
        out.print(found.note)
