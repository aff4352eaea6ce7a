"""Plots of a comparison, for a notebook. They need matplotlib, which is imported when one is drawn."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import polars as pl

if TYPE_CHECKING:
    from matplotlib.figure import Figure

COLOURS = ("#2f6b41", "#b5541c", "#3b6ea5", "#8a5a9e", "#8f7a1e", "#b0476b")
MARKS = ("o", "s", "^", "D", "P", "*")
WIDTH = 7.0
ROW = 0.34
"""Height of one contender, in inches."""
DECADES = 20
"""How many times the lowest the highest must be for an axis of logarithms."""


def plot_comparison(table: pl.DataFrame, metric: str, baseline: str) -> Figure:
    """Each contender's test figure with its 95 % interval, the best at the top; the baseline as a line through all."""
    figure = _figure(max(2.0, 1.0 + ROW * table.height))
    axes = figure.subplots()
    for place, row in enumerate(table.reverse().iter_rows(named=True)):
        style = _style(table.height - 1 - place)
        if row["low"] is not None:
            axes.plot([row["low"], row["high"]], [place, place], color=style["color"], linewidth=2, alpha=0.55)
        axes.plot([row["test"]], [place], linestyle="none", **style)
        if row["contender"] == baseline:
            axes.axvline(row["test"], color="#8a8273", linestyle=":", linewidth=1.2)
    axes.set_yticks(range(table.height), table["contender"].reverse().to_list())
    axes.set_xlabel(f"{metric}, test part, 95 % interval")
    return figure


def plot_attempts(attempts: pl.DataFrame, contender: str, metric: str) -> Figure:
    """Each parameter that was searched against the metric on validation, a point an attempt, the best one ringed."""
    mine = attempts.filter(pl.col("contender") == contender, pl.col("value").is_not_null())
    chosen = pl.DataFrame(mine["chosen"].to_list()) if mine.height else pl.DataFrame()
    figure = _figure(3.0, width=max(WIDTH / 2, 2.6 * max(1, chosen.width)))
    panels = figure.subplots(1, max(1, chosen.width), sharey=True, squeeze=False)[0]
    best = mine["best"].arg_true()
    for axes, name in zip(panels, chosen.columns, strict=False):
        cells = chosen[name]
        values = cells.to_list() if cells.dtype.is_numeric() else [str(each) for each in cells]
        axes.plot(values, mine["value"], "o", color=COLOURS[0], alpha=0.7)
        axes.plot(
            [values[at] for at in best],
            mine["value"].gather(best),
            "o",
            markersize=12,
            fillstyle="none",
            color="#2b2721",
        )
        axes.set_xlabel(name)
        if cells.dtype.is_numeric() and _spans_decades(cells.to_numpy()):
            axes.set_xscale("log")
    panels[0].set_ylabel(f"{metric}, validation")
    return figure


def plot_rounds(rounds: pl.DataFrame, of: str) -> Figure:
    """A column of the rounds, such as the metric or `validation` loss, by iteration, a line a contender."""
    figure = _figure(3.6)
    axes = figure.subplots()
    known = rounds.filter(pl.col(of).is_not_null())
    for place, (label,) in enumerate(known.select("contender").unique(maintain_order=True).iter_rows()):
        mine = known.filter(pl.col("contender") == label)
        axes.plot(mine["iteration"], mine[of], label=label, linewidth=1.5, **_style(place), markersize=3)
    axes.set_xlabel("iteration")
    axes.set_ylabel(of)
    if known.height:
        axes.legend(frameon=False)
    return figure


def _spans_decades(values: np.ndarray) -> bool:
    return bool(values.min() > 0 and values.max() / values.min() > DECADES)


def _figure(height: float, width: float = WIDTH) -> Figure:
    from matplotlib.figure import Figure

    return Figure(figsize=(width, height), layout="constrained")


def _style(place: int) -> dict[str, Any]:
    return {"color": COLOURS[place % len(COLOURS)], "marker": MARKS[place % len(MARKS)]}
