"""What a score is made of, and what factors stand for."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from gleaner.cli.common import console, emit, table, with_client

if TYPE_CHECKING:
    from gleaner.client import Client
    from gleaner.wire.models.explanations import EndTrait, FactorEnd, FactorsReport, LikenessByHand, ModelExplanation


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
@click.option("--item", "items", nargs=2, help="Ids of two items.")
@click.option("--user", "users", nargs=2, help="Ids of two users.")
@click.option("-n", "n", default=10, show_default=True, type=click.IntRange(1, 1000), help="Numbers that both have.")
@with_client
def likeness(
    client: Client, model: str, as_json: bool, items: tuple[str, str] | None, users: tuple[str, str] | None, n: int
) -> None:
    """How alike two items, or two users, are, worked by hand: what goes in, each step, the result.

    \b
    Examples:
      gleaner model likeness first-look.als --item v-0007 v-0012
      gleaner model likeness first-look.als --user g-0417 g-0002
    """
    from gleaner.client import model_calls

    if (items is None) == (users is None):
        raise click.UsageError("give --item or --user, one of the two, with two ids")
    side, (one, other) = ("item", items) if items is not None else ("user", users or ("", ""))
    worked = client.send(model_calls.likeness(model, side, one, other, n))
    emit(worked, as_json, lambda: _show_likeness(worked))


def _show_likeness(worked: LikenessByHand) -> None:
    from rich.markup import escape

    out = console()
    one, other = (escape(name or id) for name, id in ((worked.one_name, worked.one), (worked.other_name, worked.other)))
    out.print(f"[bold]{worked.model}[/]: {one} (the one) and {other} (the other), by {worked.by}")
    columns = list(worked.entries[0].columns) if worked.entries else []
    rows = table(worked.entries_of, *[name.replace("_", " ") for name in columns], right=tuple(columns))
    for each in worked.entries:
        rows.add_row(escape(each.name or each.id), *(f"{each.columns[name]:.5g}" for name in columns))
    if worked.entries:
        out.print(rows)
        out.print(f"{len(worked.entries)} of {worked.entries_in_all:,} that both have, those that weigh most")
    steps = table("step", "worked", "comes to", right=("comes to",))
    for step in worked.steps:
        steps.add_row(step.what, escape(step.worked), f"{step.result:.6g}")
    out.print(steps)
    if worked.note:
        out.print(f"The model itself goes by {worked.model_has:.6g}: {worked.note}.")


@click.command()
@click.argument("model")
@click.option("-n", "n", default=3, show_default=True, type=click.IntRange(1, 50), help="Items at each end.")
@click.option("--factors", "most", default=6, show_default=True, type=click.IntRange(1), help="How many factors.")
@with_client
def factors(client: Client, model: str, as_json: bool, n: int, most: int) -> None:
    """What the factors of a model stand for: share of variance, and at both ends what stands out there and the items.

    \b
    Example:
      gleaner model factors first-look.als
    """
    from gleaner.client import model_calls

    report = client.send(model_calls.factors(model, n))
    emit(report, as_json, lambda: _show_factors(report, most))


def _end(traits: list[EndTrait], items: list[FactorEnd]) -> str:
    """What an end of a factor stands for, and the items farthest out."""
    named = [f"{each.name or each.item} {each.at:+.2f}" for each in items]
    return "\n".join([*(f"[bold]{_trait(each)}[/]" for each in traits), *named])


def _trait(trait: EndTrait) -> str:
    from rich.markup import escape

    if trait.value is None:
        return escape(f"{trait.column}: median {trait.here:,.4g}, {trait.overall:,.4g} of all")
    return escape(f"{trait.column} {trait.value}: {trait.here:.0%}, {trait.overall:.0%} of all")


def _show_factors(report: FactorsReport, most: int) -> None:
    out = console()
    shown = report.factors[:most]
    out.print(f"[bold]{report.model}[/]: {len(report.factors)} factors, turned to their principal axes")
    rows = table("", "share", "one end", "other end", right=("", "share"))
    for each in shown:
        ends = [_end(each.top_traits, each.top), _end(each.bottom_traits, each.bottom)]
        rows.add_row(str(each.factor), f"{each.share:.1%}", *ends)
    out.print(rows)
    if len(report.factors) > most:
        out.print(f"{len(report.factors) - most} more hold {sum(each.share for each in report.factors[most:]):.1%}")
