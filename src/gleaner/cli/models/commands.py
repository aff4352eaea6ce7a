"""gleaner model"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from gleaner.cli.common import ago, all_pages, console, emit, table, with_client
from gleaner.cli.models import explanations, lists, training, values

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.models.cards import Likelihood, ModelCard, ModelSummary


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
    from gleaner.client import model_calls

    summaries, more = all_pages(client, model_calls.list_models, limit)
    emit(summaries, as_json, lambda: _show_list(summaries, more))


def _show_list(summaries: list[ModelSummary], more: bool) -> None:
    out = console()
    if not summaries:
        out.print("no models yet; `gleaner contest run FILE.yaml` trains some")
        return
    names = ("model", "data", "users", "items", "cells", "test figure", "trained")
    rows = table(*names, right=("users", "items", "cells"), whole=("model",))
    for each in summaries:
        figure = "" if each.decided_by is None else f"{each.decided_by} {each.figures[each.decided_by]:.4f}"
        counts = (f"{each.users:,}", f"{each.items:,}", f"{each.cells:,}")
        rows.add_row(each.name, each.data, *counts, figure, ago(each.created_at))
    out.print(rows)
    if more:
        out.print("there are more; -n shows them")


@command.command()
@click.argument("model")
@with_client
def remove(client: Client, model: str, as_json: bool) -> None:
    """Take a model out of the registry. Refused while a version of a shelf names it.

    \b
    Example:
      gleaner model remove first-look.als@2
    """
    from gleaner.client import model_calls

    removed = client.send(model_calls.remove_model(model))
    emit(removed, as_json, lambda: console().print(f"{removed.model} is gone"))


@command.command()
@click.argument("model")
@with_client
def show(client: Client, model: str, as_json: bool) -> None:
    """Show a model's card: parameters, lineage, figures, cost.

    \b
    Example:
      gleaner model show first-look.als
    """
    from gleaner.client import model_calls

    card = client.send(model_calls.model(model))
    emit(card, as_json, lambda: show_card(card))


SHOWN_INPUTS = 8


def show_card(card: ModelCard) -> None:
    """A card for people."""
    out = console()
    out.print(f"[bold]{card.name}[/]  {card.summary}")
    rows = table("", "")
    rows.show_header = False
    rows.add_row("family", f"{card.family} ({card.feedback} feedback); {card.source or 'no source'}")
    settings = [f"{name} {value}" for name, value in card.params.items() if value is not None]
    rows.add_row("parameters", ", ".join(settings) or "none")
    if card.chosen:
        rows.add_row("chosen by the fit", ", ".join(f"{name} {value:.4g}" for name, value in card.chosen.items()))
    rows.add_row("fitted on", card.provenance)
    rows.add_row("matrix", f"{card.users:,} users x {card.items:,} items, {card.cells:,} cells")
    rows.add_row("preparation", _settings(card.prepare))
    if card.split:
        rows.add_row("split", _settings(_of_the_rule(card.split)))
    if card.figures:
        rows.add_row("test figures", ", ".join(f"{name} {value:.4f}" for name, value in card.figures.items()))
    rows.add_row("cost", f"{card.fit_seconds:.2f} s to fit, {card.peak_memory_mb:.0f} MB of memory at its peak")
    rows.add_row("serves the unseen", "yes, by folding in their items" if card.folds_in else "no")
    for where, names in card.columns.items():
        rows.add_row(where.replace("_", " "), ", ".join(names))
    if card.importance:
        shares = [f"{name} {share:.0%}" for name, share in list(card.importance.items())[:SHOWN_INPUTS]]
        rows.add_row("inputs that say most", ", ".join(shares))
    for side in ("user", "item", "both"):
        if any(each.side == side for each in card.network):
            rows.add_row({"both": "where they meet"}.get(side, f"network, {side}"), _network(card, side))
    if card.likelihood is not None:
        rows.add_row("likelihood", _reliability(card.likelihood))
    if card.rounds:
        rows.add_row("iterations", _rounds(card))
    for text in card.warnings:
        rows.add_row("warning", text)
    if card.note:
        rows.add_row("refresh", card.note)
    if card.unfit:
        rows.add_row("not for", card.unfit)
    rows.add_row("data hash", card.content_hash[:16])
    rows.add_row("made by", f"gleaner {card.code_version}, {ago(card.created_at)}")
    out.print(rows)


def _network(card: ModelCard, side: str) -> str:
    """Parts of one side, in the order in which numbers go through."""
    parts = [each for each in card.network if each.side == side]
    weights = sum(each.weights for each in parts)
    shown = ", ".join(f"{each.name} ({each.takes} -> {each.width})" for each in parts)
    return f"{shown}: {weights:,} weights"


def _reliability(likelihood: Likelihood) -> str:
    """What chances were worth, and how often what was said came true, in few words."""
    bins = likelihood.reliability
    shown = [bins[0], bins[len(bins) // 2], bins[-1]] if len(bins) > 3 else bins
    said = "; ".join(f"{each.said:.2%} said, {each.taken:.2%} taken" for each in shown)
    figures = f"Brier {likelihood.brier:.5f}, log loss {likelihood.log_loss:.5f}"
    return f"{figures}, base rate {likelihood.base_rate:.2%}; {said}"


def _rounds(card: ModelCard) -> str:
    """First, best and last iteration in a line."""
    first, last = card.rounds[0], card.rounds[-1]
    text = f"{len(card.rounds)}"
    for name, loss in last.losses.items():
        text += f"; {name} loss {_loss(first.losses.get(name))} to {_loss(loss)}"
    best = next((each for each in card.rounds if each.iteration == card.best_iteration), None)
    if best is not None:
        text += f"; best {best.iteration}, {', '.join(f'{name} {value:.4f}' for name, value in best.metrics.items())}"
    return text


def _settings(given: dict[str, Any]) -> str:
    """Settings that say something."""
    shown = {name: value for name, value in given.items() if value and not _empty(value)}
    return ", ".join(f"{name} {value}" for name, value in shown.items())


def _of_the_rule(split: dict[str, Any]) -> dict[str, Any]:
    """The fields that the rule looks at."""
    from gleaner.wire.contests.contest import SPLIT_FIELDS

    return {name: value for name, value in split.items() if name in ("by", *SPLIT_FIELDS[split.get("by", "time")])}


def _empty(value: Any) -> bool:
    return isinstance(value, dict) and not any(each is not None for each in value.values())


def _loss(value: float | None) -> str:
    return "no number" if value is None else f"{value:.4g}"


for _verb in ("recommend", "all_", "audience", "similar"):
    command.add_command(getattr(lists, _verb))
for _verb in ("rate", "averages"):
    command.add_command(getattr(values, _verb))
for _verb in ("explain", "likeness", "factors"):
    command.add_command(getattr(explanations, _verb))
for _verb in ("families", "train", "refresh", "export_", "import_"):
    command.add_command(getattr(training, _verb))
