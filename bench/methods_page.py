"""Writes the part of docs/methods.md that comes from registry and measurements: `python -m bench.methods_page`."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from gleaner.core.models.base.capabilities import PredictsValues
from gleaner.core.models.base.facts import FamilyFacts
from gleaner.core.models.base.registry import FAMILIES, groups

DOCS = Path(__file__).parent.parent / "docs"
PAGE, MEASURED, MEASURED_COLUMNS = DOCS / "methods.md", DOCS / "measured.json", DOCS / "measured_columns.json"
MEASURED_NETWORKS = DOCS / "measured_networks.json"
HEAD = ("family", "what it does", "source", "feedback", "new users, new items", "cost", "not for")
BEGIN, END = "<!-- made by bench.methods_page: begin -->\n", "<!-- made by bench.methods_page: end -->\n"


def generated() -> str:
    """The tables."""
    return (
        "\n".join(
            [
                *("## Models", "", *_models(), "### Parameters and defaults", "", *_parameters()),
                *(*_measured(), *_columns(), *_networks()),
            ]
        )
        + "\n"
    )


def _models() -> list[str]:
    lines = []
    for group, members in groups().items():
        lines += [f"### {group.capitalize()}", "", f"| {' | '.join(HEAD)} |", "|---" * len(HEAD) + "|"]
        for each in map(FamilyFacts.of, members):
            new = ", ".join("yes" if can else "no" for can in (each.folds_in or not each.personal, each.folds_in_items))
            cells = (each.summary, each.source or "-", each.feedback, new, each.cost, each.unfit)
            lines.append(f"| `{each.family}` | " + " | ".join(cells) + " |")
        lines.append("")
    return lines


def _parameters() -> list[str]:
    lines = ["| family | parameter | default | meaning |", "|---|---|---|---|"]
    for name, each in FAMILIES.items():
        for parameter in FamilyFacts.of(each).parameters:
            shown = "-" if parameter.default is None else str(parameter.default).removesuffix(".0")
            lines.append(f"| `{name}` | `{parameter.name}` | {shown} | {parameter.meaning} |")
    return [*lines, ""]


def _measured() -> list[str]:
    measured: dict[str, Any] = json.loads(MEASURED.read_text())
    worlds = list(measured)
    about = [measured[world]["about"] for world in worlds]
    sizes = "; ".join(
        f"*{world}*: {size['users']:,} users ({size['judged']:,} judged), {size['items']:,} items, "
        f"{size['cells']:,} cells"
        for world, size in zip(worlds, about, strict=True)
    )
    lines = [
        "### Measured with these defaults",
        "",
        "Simulated worlds, split in time as the demo is, on the test part; defaults were chosen on validation parts of "
        "the same worlds (`python -m bench.quality --on validation`). " + sizes + ". In brackets the share of what the "
        "simulator's own truth reaches, the best possible ranking.",
        "",
        "| nDCG@10 | " + " | ".join(worlds) + " |",
        "|---|" + "---|" * len(worlds),
        "| the simulator's truth | "
        + " | ".join(f"{measured[world]['best']['ndcg@10']:.4f}" for world in worlds)
        + " |",
    ]
    for name in FAMILIES:
        if "ndcg@10" in measured[worlds[0]].get(name, {}):
            cells = [_share(measured[world], name) for world in worlds]
            lines.append(f"| `{name}` | " + " | ".join(cells) + " |")
    lines += ["", *_errors(measured, worlds)]
    return lines


def _share(world: dict[str, Any], name: str) -> str:
    figure = world[name]["ndcg@10"]
    return f"{figure:.4f} ({figure / world['best']['ndcg@10']:.0%})"


def _errors(measured: dict[str, Any], worlds: list[str]) -> list[str]:
    counts = ", ".join(f"{measured[world]['about']['ratings']:,}" for world in worlds)
    lines = [
        f"Ratings held out at random ({counts} in training), over all pairs: those that a model cannot answer count "
        "with what it falls back on. In brackets the share it could answer.",
        "",
        "| RMSE | " + " | ".join(worlds) + " |",
        "|---|" + "---|" * len(worlds),
    ]
    for name, each in FAMILIES.items():
        if issubclass(each, PredictsValues):
            cells = [
                f"{measured[world][name]['rmse']:.4f} ({measured[world][name]['answered']:.0%})" for world in worlds
            ]
            lines.append(f"| `{name}` | " + " | ".join(cells) + " |")
    return [*lines, ""]


def _columns() -> list[str]:
    measured: dict[str, Any] = json.loads(MEASURED_COLUMNS.read_text())
    worlds = list(measured)
    size = [measured[worlds[0]]["about"][name] for name in ("users", "items")]
    lines = [
        "### What columns and context are worth",
        "",
        f"Two simulated worlds of about {size[0]:,} users and {size[1]:,} items (`python -m bench.column_worlds`). In "
        "one the user's zone, the item's family and the place of the interaction decide much of what is taken, in the "
        "other they are drawn at random. nDCG@10 of the test part, 95 % interval; below, paired differences, corrected "
        "for all pairs compared.",
        "",
        "| nDCG@10 | " + " | ".join(worlds) + " |",
        "|---|" + "---|" * len(worlds),
    ]
    for label in measured[worlds[0]]["figures"]:
        cells = [measured[world]["figures"][label] for world in worlds]
        shown = [f"{each['test']:.4f} ({each['low']:.4f} to {each['high']:.4f})" for each in cells]
        lines.append(f"| {label} | " + " | ".join(shown) + " |")
    lines += ["", "| with against without | " + " | ".join(worlds) + " |", "|---|" + "---|" * len(worlds)]
    for gaps in zip(*(measured[world]["pairs"] for world in worlds), strict=True):
        shown = [f"{gap['difference']:+.4f}, {gap['verdict']}" for gap in gaps]
        lines.append(f"| {gaps[0]['with']} against {gaps[0]['without']} | " + " | ".join(shown) + " |")
    return [*lines, ""]


def _networks() -> list[str]:
    measured: dict[str, Any] = json.loads(MEASURED_NETWORKS.read_text())
    sets = list(measured)
    sizes = "; ".join(
        f"*{name}*: " + ", ".join(f"{each['about'][what]:,} {what}" for what in ("users", "items", "cells"))
        for name, each in measured.items()
    )
    spent = " or ".join(f"{each:g}" for each in sorted({each["seconds"] for each in measured.values()}))
    lines = [
        "### Networks beside plain models",
        "",
        "Contests of the engine that runs all others (`python -m bench.network_verdict`): every family with its "
        f"defaults, and tuned for {spent} s, in which a plain family makes "
        "many attempts and a network few. *open baskets* and *open ratings* are sets that packages of the registries "
        "ship: shoppers of four months, and ratings with four columns of context. "
        + sizes
        + ". Test part; in brackets "
        "seconds of all fits but those of tuning, the most memory that one took, and how many settings were tried.",
        "",
        "| test part | " + " | ".join(f"{name}, {measured[name]['about']['metric']}" for name in sets) + " |",
        "|---|" + "---|" * len(sets),
    ]
    for label in dict.fromkeys(label for each in measured.values() for label in each["figures"]):
        cells = [_cost(measured[name]["figures"].get(label)) for name in sets]
        family, tuned, _ = label.partition(", tuned")
        lines.append(f"| `{family}`{tuned} | {' | '.join(cells)} |")
    lines += ["", "The network that validation puts first against the plain model that it puts first:", ""]
    lines += ["| set | network | plain model | difference | verdict |", "|---|---|---|---|---|"]
    for name, each in measured.items():
        told = each["verdict"]
        gap = f"{told['difference']:+.4f} ({told['low']:+.4f} to {told['high']:+.4f})"
        lines.append(f"| {name} | `{told['network']}` | `{told['plain']}` | {gap} | {told['verdict']} |")
    return [*lines, ""]


def _cost(figure: dict[str, Any] | None) -> str:
    if figure is None:
        return "-"
    tried = f", {figure['attempts']} tried" if figure["attempts"] else ""
    return f"{figure['test']:.4f} ({figure['seconds']:.0f} s, {figure['memory_mb']} MB{tried})"


def page() -> str:
    """The whole page with its made part made anew."""
    text = PAGE.read_text()
    before, _, rest = text.partition(BEGIN)
    return before + BEGIN + generated() + END + rest.partition(END)[2]


if __name__ == "__main__":
    PAGE.write_text(page())
