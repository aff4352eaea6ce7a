"""Shelves that a contest names, in its report: stage by stage."""

from __future__ import annotations

from collections.abc import Sequence

from gleaner.report.blocks import Block, BulletList, Heading, Table, Text
from gleaner.wire.contests.runs import Figure
from gleaner.wire.shelves.evaluations import ShelfEvaluation


def shelf_blocks(evaluation: ShelfEvaluation) -> list[Block]:
    """One shelf: its candidates, their order, what each part adds, time and memory."""
    metric = evaluation.decide_by
    told = (
        f"Its lists for {evaluation.users:,} users of the test part; "
        f"{evaluation.for_everyone:,} of them get a list of the fallback."
    )
    blocks: list[Block] = [Heading(f"{evaluation.label[:1].upper()}{evaluation.label[1:]}"), Text(told)]
    rows = [["as served", metric, *_cells(evaluation.figures, metric), ""]]
    if evaluation.candidates is not None:
        found = evaluation.candidates
        rows = [
            *[[f"candidates, {each.name}", "recall", *_spread(each.recall), ""] for each in found.sources],
            ["candidates as they come, given one is relevant", metric, *_cells(found.brought, metric), ""],
            ["candidates in order, given one is relevant", metric, *_cells(found.scored, metric), ""],
            *rows,
        ]
    adds = {each.second: f"{each.difference:+.4f} ({each.verdict})" for each in evaluation.price}
    for variant in evaluation.variants:
        rows.append([variant.label, metric, *_cells(variant.figures, metric), adds.get(variant.label, "")])
    blocks.append(Table(["stage", "metric", "mean", "95 %", "what that part adds"], rows, {2}))
    work = [
        [each.model, each.family, f"{each.seconds:.1f}", f"{each.memory_mb:,.0f}", "yes" if each.by_the_run else ""]
        for each in evaluation.models
    ]
    blocks.append(Table(["model", "family", "fit s", "MB", "fitted by the run"], work, {2, 3}))
    stages = ", ".join(f"{each.stage} {each.milliseconds:.2f}" for each in evaluation.stages)
    blocks.append(Text(f"Milliseconds of a list, medians: {stages}.", "small"))
    blocks += [Text(note, "small") for note in evaluation.notes]
    if evaluation.comparison is not None:
        blocks.append(BulletList(evaluation.comparison.summary))
    return blocks


def _cells(figures: Sequence[Figure], metric: str) -> list[str]:
    figure = next((each for each in figures if each.metric == metric), None)
    return ["", ""] if figure is None else _spread(figure)


def _spread(figure: Figure) -> list[str]:
    interval = "" if figure.low is None or figure.high is None else f"{figure.low:.4f} to {figure.high:.4f}"
    return [f"{figure.mean:.4f}", interval]
