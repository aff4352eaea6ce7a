"""What a score is made of, and what factors stand for."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from gleaner.cli.common import console, emit, table, with_client

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.models.explanations import FactorsReport, ModelExplanation


@click.command()
@click.argument("model")
@click.option("--user", required=True, help="The user's id.")
@click.option("--item", required=True, help="The item's id.")
@click.option("-n", "n", default=15, show_default=True, type=click.IntRange(1, 1000), help="How many terms.")
@with_client
def explain(client: Client, model: str, as_json: bool, user: str, item: str, n: int) -> None:
    """Why a user gets a score for an item: a sum to redo by hand where the method is one, else the nearest items.

    \b
    Example:
      gleaner model explain first-look.als --user g-0417 --item v-0007
    """
    from gleaner.client import model_calls

    explanation = client.send(model_calls.explain(model, user, item, n))
    emit(explanation, as_json, lambda: _show_explanation(explanation))


def _show_explanation(explanation: ModelExplanation) -> None:
    out = console()
    out.print(f"[bold]{explanation.model}[/]: {explanation.item} for {explanation.user}, score {explanation.score:.4f}")
    out.print(f"adds = {explanation.formula}" if explanation.kind == "sum" else explanation.formula)
    names = list(explanation.terms[0].columns) if explanation.terms else []
    called = ["name"] if any(term.name for term in explanation.terms) else []
    rows = table(explanation.side, *called, *names, right=tuple(names))
    for term in explanation.terms:
        cells = [_plain(name, term.columns.get(name)) for name in names]
        rows.add_row(term.id, *[term.name or ""] * len(called), *cells)
    out.print(rows)
    if explanation.result is not None:
        begins = "where every pair begins" if explanation.side == "input" else "the mean"
        start = f"{explanation.start:.4f} ({begins}) + " if explanation.start else ""
        value = "" if explanation.value is None else f"; on the scale {explanation.value:.2f}"
        out.print(f"{start}sum of adds {explanation.result - explanation.start:.4f} = {explanation.result:.4f}{value}")
        if explanation.apart:
            out.print(explanation.apart)


def _plain(name: str, value: float | None) -> str:
    if value is None:
        return ""
    return f"{value:,.0f}" if name == "overlap" else f"{value:.4f}"


@click.command()
@click.argument("model")
@click.option("-n", "n", default=3, show_default=True, type=click.IntRange(1, 50), help="Items at each end.")
@click.option("--factors", "most", default=6, show_default=True, type=click.IntRange(1), help="How many factors.")
@with_client
def factors(client: Client, model: str, as_json: bool, n: int, most: int) -> None:
    """What the factors of a model stand for: share of variance, and the items at both ends.

    \b
    Example:
      gleaner model factors first-look.als
    """
    from gleaner.client import model_calls

    report = client.send(model_calls.factors(model, n))
    emit(report, as_json, lambda: _show_factors(report, most))


def _show_factors(report: FactorsReport, most: int) -> None:
    out = console()
    shown = report.factors[:most]
    out.print(f"[bold]{report.model}[/]: {len(report.factors)} factors, turned to their principal axes")
    rows = table("", "share", "one end", "other end", right=("", "share"))
    for each in shown:
        ends = ["\n".join(f"{end.name or end.item} {end.at:+.2f}" for end in side) for side in (each.top, each.bottom)]
        rows.add_row(str(each.factor), f"{each.share:.1%}", *ends)
    out.print(rows)
    if len(report.factors) > most:
        out.print(f"{len(report.factors) - most} more hold {sum(each.share for each in report.factors[most:]):.1%}")
