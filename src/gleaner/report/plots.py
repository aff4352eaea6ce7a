"""Plots of a contest as SVG or PNG. A contender keeps its colour and mark on every one."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from io import BytesIO
from threading import Lock
from typing import Any

import matplotlib as mpl
from matplotlib.axes import Axes
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure

from gleaner.report.report_data import ReportData
from gleaner.wire.contests.runs import PredictedBin, Segments
from gleaner.wire.contests.tuning import Attempt, Tuning

COLOURS = ("#2f6b41", "#b5541c", "#3b6ea5", "#8a5a9e", "#8f7a1e", "#b0476b")
MARKS = ("o", "s", "^", "D", "P", "*")
DASHES = ("-", "--", "-.", ":")
INK, FAINT, GROUND = "#2b2721", "#8a8273", "#ffffff"
WIDTH, HEIGHT = 7.6, 3.9
LOOK: dict[Any, Any] = {
    "font.family": "DejaVu Sans", "font.size": 9, "svg.fonttype": "none", "svg.hashsalt": "gleaner",
    "axes.edgecolor": FAINT, "axes.labelcolor": INK, "axes.spines.top": False, "axes.spines.right": False,
    "xtick.color": INK, "ytick.color": INK, "text.color": INK, "axes.grid": True, "grid.color": "#e6e0d3",
    "axes.axisbelow": True, "legend.frameon": False, "figure.facecolor": GROUND, "axes.facecolor": GROUND,
}  # fmt: skip
PNG_DPI = 160
DRAWING = Lock()
PANELS = 3


def drawn(findings: ReportData, name: str, form: str) -> bytes:
    """One plot as `svg` or `png`. Raises KeyError for a name that `available` does not give."""
    return drawn_as(findings, name, (form,))[form]


def drawn_as(findings: ReportData, name: str, forms: Sequence[str]) -> dict[str, bytes]:
    """The same in several forms, worked out once."""
    draw = available(findings)[name][1]
    # the library's settings are global to the process, and requests draw at the same time
    with DRAWING, mpl.rc_context(LOOK):
        figure = draw(findings)
        return {form: _written(figure, form) for form in forms}


def _written(figure: Figure, form: str) -> bytes:
    out = BytesIO()
    if form == "png":
        FigureCanvasAgg(figure)
        figure.savefig(out, format="png", dpi=PNG_DPI, metadata={"Software": None})
    else:
        figure.savefig(out, format="svg", metadata={"Date": None, "Creator": None})
    return out.getvalue()


def available(findings: ReportData) -> dict[str, tuple[str, Callable[[ReportData], Figure]]]:
    """Every plot that the run has something for: its caption, and what draws it."""
    run, metric = findings.run, findings.run.decide_by
    plots: dict[str, tuple[str, Callable[[ReportData], Figure]]] = {
        "leaderboard": (f"{metric} on the test part with 95 % intervals; the line is {run.spec.baseline}", _leaderboard)
    }
    if len(run.spec.rank.at) > 1 and "@" in metric:
        plots["by-cutoff"] = (f"{metric.partition('@')[0]} on the test part by cut-off k", _by_cutoff)
    if findings.against is not None:
        text = f"{metric} against {findings.against.against} on the {findings.against.part} part; ringed: the frontier"
        plots["frontier"] = (text, _frontier)
    if any(curve.amounts for curve in findings.curves):
        plots["curve-by-amount"] = (f"{metric} on validation by share of the training cells", _by_amount)
    if any(metric in done.metrics for curve in findings.curves for done in curve.rounds):
        plots["curve-by-iteration"] = (f"{metric} on validation by iteration", _by_iteration)
    if any("validation" in done.losses for curve in findings.curves for done in curve.rounds):
        plots["losses"] = (
            "Loss by iteration: training dashed, validation whole; rising validation is over-fitting",
            _losses,
        )
    for tuning in findings.tunings:
        if len([each for each in tuning.attempts if each.value is not None]) > 1:
            name = f"tuning-{tuning.contender}"
            text = f"{tuning.contender}: parameters against {tuning.metric} on validation; crosses were pruned"
            plots[name] = (text, lambda _, tuning=tuning: _tuning(tuning))  # type: ignore[misc]
            if "rank" in tuning.ranges and len(_errors(tuning)) > 1:
                text = f"{tuning.contender}: rank against error and against {tuning.metric}"
                plots[f"rank-{tuning.contender}"] = (text, lambda _, tuning=tuning: _rank(tuning))  # type: ignore[misc]
    for each in findings.segments:
        text = f"{each.metric} on the {each.part} part by {each.by}, with the number of {each.of} counted"
        plots[f"by-{each.by.replace(':', '-')}"] = (text, lambda f, each=each: _segments(f, each))  # type: ignore[misc]
    if findings.values is not None:
        plots["predicted-against-actual"] = (
            "Mean predicted value by actual value; the line is where both are equal",
            _values,
        )
    if findings.likelihoods:
        text = "Share taken by the chance that was said, test part, 95 % intervals; the line is where both are equal"
        plots["reliability"] = (text, _reliability)
    return plots


def _figure(width: float = WIDTH, height: float = HEIGHT, panels: int = 1, **more: Any) -> tuple[Figure, list[Axes]]:
    figure = Figure(figsize=(width, height), layout="constrained")
    axes = figure.subplots(1, panels, squeeze=False, **more)[0]
    return figure, list(axes)


def _style(findings: ReportData, label: str) -> dict[str, Any]:
    """Colour and mark: those that the contender has in the console."""
    place = _place(findings, label)
    if place < 0:
        return {"color": FAINT, "marker": "o", "markersize": 5.5}
    # the next six have the same colours with other marks
    mark = MARKS[(place + place // len(COLOURS)) % len(MARKS)]
    return {"color": COLOURS[place % len(COLOURS)], "marker": mark, "markersize": 5.5}


def _dash(findings: ReportData, label: str) -> str:
    place = _place(findings, label)
    return ":" if place < 0 else DASHES[place // len(COLOURS) % len(DASHES)]


def _place(findings: ReportData, label: str) -> int:
    """Which contender of the file it is; -1 for popularity."""
    others = [each.label for each in findings.run.spec.contenders if each.family != "popular"]
    return others.index(label) if label in others else -1


def _beside(axes: Axes) -> None:
    axes.legend(loc="center left", bbox_to_anchor=(1.0, 0.5), fontsize=8)


def _leaderboard(findings: ReportData) -> Figure:
    run = findings.run
    standings = [each for each in run.standings if each.figure(run.decide_by)]
    figure, [axes] = _figure(height=max(2.0, 0.9 + 0.34 * len(standings)))
    for place, standing in enumerate(reversed(standings)):
        got = standing.figure(run.decide_by)
        assert got is not None
        style = _style(findings, standing.contender)
        if got.low is not None and got.high is not None:
            axes.plot([got.low, got.high], [place, place], color=style["color"], linewidth=2, alpha=0.55)
        axes.plot([got.mean], [place], linestyle="none", **style)
        if standing.contender == run.spec.baseline:
            axes.axvline(got.mean, color=FAINT, linestyle=":", linewidth=1.4)
    axes.set_yticks(range(len(standings)), [each.contender for each in reversed(standings)])
    axes.set_xlabel(run.decide_by)
    axes.grid(axis="y", visible=False)
    return figure


def _by_cutoff(findings: ReportData) -> Figure:
    run = findings.run
    name = run.spec.rank.deciding.name
    figure, [axes] = _figure()
    for standing in run.standings:
        points = [(k, got.mean) for k in run.spec.rank.at if (got := standing.figure(f"{name}@{k}"))]
        _line(axes, findings, standing.contender, points)
    axes.set_xticks(run.spec.rank.at)
    axes.set_xlabel("k")
    axes.set_ylabel(name)
    axes.set_ylim(bottom=0)
    _beside(axes)
    return figure


def _line(axes: Axes, findings: ReportData, label: str, points: Sequence[tuple[float, float]]) -> None:
    if points:
        style = _style(findings, label)
        axes.plot(*zip(*points, strict=True), label=label, linewidth=1.5, linestyle=_dash(findings, label), **style)


def _frontier(findings: ReportData) -> Figure:
    choice = findings.against
    assert choice is not None
    figure, [axes] = _figure()
    edge = sorted((p.against, p.figure) for p in choice.points if p.on_frontier and p.against is not None)
    if edge:
        axes.plot(*zip(*edge, strict=True), color=FAINT, linewidth=1, linestyle=":")
    for point in choice.points:
        if point.against is not None:
            style = _style(findings, point.contender)
            axes.plot([point.against], [point.figure], linestyle="none", label=point.contender, **style)
            if point.on_frontier:
                axes.plot(
                    [point.against],
                    [point.figure],
                    "o",
                    markersize=12,
                    fillstyle="none",
                    color=INK,
                    markeredgewidth=0.8,
                )
    axes.set_xlabel(choice.against or "")
    axes.set_ylabel(choice.metric)
    _beside(axes)
    return figure


def _by_amount(findings: ReportData) -> Figure:
    figure, [axes] = _figure()
    for curve in findings.curves:
        _line(axes, findings, curve.contender, [(100 * point.share, point.mean) for point in curve.amounts])
    axes.set_xlabel("% of the training cells")
    axes.set_ylabel(findings.run.decide_by)
    axes.set_ylim(bottom=0)
    _beside(axes)
    return figure


def _by_iteration(findings: ReportData) -> Figure:
    metric = findings.run.decide_by
    figure, [axes] = _figure()
    for curve in findings.curves:
        points = [(done.iteration, done.metrics[metric]) for done in curve.rounds if metric in done.metrics]
        _line(axes, findings, curve.contender, points)
    axes.set_xlabel("iteration")
    axes.set_ylabel(metric)
    _beside(axes)
    return figure


def _losses(findings: ReportData) -> Figure:
    curves = [each for each in findings.curves if any("validation" in done.losses for done in each.rounds)]
    shown = curves[: 2 * PANELS]
    rows = -(-len(shown) // PANELS)
    figure = Figure(figsize=(WIDTH, 2.3 * rows), layout="constrained")
    grid = figure.subplots(rows, min(PANELS, len(shown)), squeeze=False)
    for axes, curve in zip(grid.flat, shown, strict=False):
        colour = _style(findings, curve.contender)["color"]
        for name, dash in (("training", "--"), ("validation", "-")):
            points = [(done.iteration, done.losses[name]) for done in curve.rounds if done.losses.get(name) is not None]
            if points:
                axes.plot(*zip(*points, strict=True), color=colour, linestyle=dash, label=name)
        axes.set_title(curve.contender, fontsize=9)
        axes.set_xlabel("iteration")
    for axes in list(grid.flat)[len(shown) :]:
        axes.set_visible(False)
    grid[0][0].set_ylabel("mean loss")
    grid[0][0].legend(fontsize=8)
    return figure


def _tuning(tuning: Tuning) -> Figure:
    names = list(tuning.ranges)
    effects = (tuning.result.effects if tuning.result else [])[::-1]
    columns = len(names) + bool(effects)
    figure, axes = _figure(width=max(WIDTH / 2, min(2.6 * columns, 12)), height=3.1, panels=columns)
    best = tuning.result.chosen if tuning.result else None
    for panel, name in zip(axes, names, strict=False):
        _attempts(panel, tuning, name, best)
        panel.set_xlabel(name)
    axes[0].set_ylabel(f"{tuning.metric}, validation")
    if effects:
        shares = [100 * each.share for each in effects]
        errors = [
            [100 * (each.share - each.low) for each in effects],
            [100 * (each.high - each.share) for each in effects],
        ]
        axes[-1].barh([each.parameter for each in effects], shares, 0.5, xerr=errors, color=COLOURS[0])
        axes[-1].set_xlabel("variance explained, %")
        axes[-1].grid(axis="y", visible=False)
    return figure


def _attempts(axes: Axes, tuning: Tuning, name: str, best: int | None) -> None:
    """One parameter against the deciding metric."""
    done = [each for each in tuning.attempts if each.value is not None]
    values: list[Any] = [each.chosen[name] for each in done]
    declared = tuning.ranges[name]
    if "choose" in declared:
        order = [str(each) for each in declared["choose"]]
        values = [order.index(str(value)) for value in values]
        axes.set_xticks(range(len(order)), order)
        axes.set_xlim(-0.5, len(order) - 0.5)
    elif declared.get("log"):
        axes.set_xscale("log")
    for each, value in zip(done, values, strict=True):
        assert each.value is not None
        chosen, pruned = each.number == best, each.state == "pruned"
        colour = COLOURS[1] if chosen else FAINT if pruned else COLOURS[0]
        size = 9 if chosen else 5
        axes.plot([value], [each.value], marker="x" if pruned else "o", color=colour, markersize=size, linestyle="none")


def _errors(tuning: Tuning) -> dict[str, Callable[[Attempt], float | None]]:
    """What is known of an attempt's error, by name."""
    errors: dict[str, Callable[[Attempt], float | None]] = {
        "rmse, validation": lambda each: each.figures.get("rmse"),
        "loss, training": lambda each: each.training_loss,
        "loss, validation": lambda each: each.validation_loss,
    }
    done = [each for each in tuning.attempts if each.state == "done"]
    return {name: read for name, read in errors.items() if any(read(each) is not None for each in done)}


def _rank(tuning: Tuning) -> Figure:
    """Rank against error on training and on validation, and against what decides: over-fitting is where they part."""
    errors = _errors(tuning)
    figure, axes = _figure(width=min(2.9 * (1 + len(errors)), 11), height=3.1, panels=1 + len(errors))
    done = sorted((each for each in tuning.attempts if each.state == "done"), key=lambda each: each.chosen["rank"])
    reads = {f"{tuning.metric}, validation": lambda each: each.value} | errors
    for panel, (name, read) in zip(axes, reads.items(), strict=True):
        points: list[tuple[float, float]] = [
            (each.chosen["rank"], value) for each in done if (value := read(each)) is not None
        ]
        panel.plot(*zip(*points, strict=True), marker="o", linestyle="none", color=COLOURS[0])
        panel.set_title(name, fontsize=9)
        panel.set_xlabel("rank")
    return figure


def _segments(findings: ReportData, segments: Segments) -> Figure:
    names = [each.name for each in segments.segments]
    figure, [axes] = _figure(height=4.2)
    for label in findings.labels:
        points = [
            (place, got.mean)
            for place, each in enumerate(segments.segments)
            for got in each.figures
            if got.contender == label
        ]
        _line(axes, findings, label, points)
    counts = [each.users if segments.of == "users" else each.pairs for each in segments.segments]
    ticks = [f"{name}\n{count:,}" for name, count in zip(names, counts, strict=True)]
    turned = 35 if len(names) > 6 else 0
    axes.set_xticks(range(len(names)), ticks, rotation=turned, ha="right" if turned else "center", fontsize=8)
    axes.set_ylabel(segments.metric)
    axes.set_xlabel(segments.by)
    axes.set_ylim(bottom=0)
    _beside(axes)
    return figure


def _values(findings: ReportData) -> Figure:
    assert findings.values is not None
    figure, [axes] = _figure()
    bins: list[PredictedBin] = [each for one in findings.values.contenders for each in one.by_actual]
    ends = [min(each.actual for each in bins), max(each.actual for each in bins)]
    axes.plot(ends, ends, color=FAINT, linestyle=":")
    for one in findings.values.contenders:
        _line(axes, findings, one.contender, [(each.actual, each.predicted) for each in one.by_actual])
    axes.set_xlabel("actual value")
    axes.set_ylabel("mean predicted value")
    _beside(axes)
    return figure


def _reliability(findings: ReportData) -> Figure:
    """On logarithms, for most chances are small; what was never taken has no place on them."""
    figure, [axes] = _figure()
    said = [bin.said for each in findings.likelihoods for bin in each.likelihood.reliability if bin.said > 0]
    edges = [min(said, default=0.001), max(said, default=1.0)]
    axes.plot(edges, edges, color=FAINT, linestyle=":")
    for each in findings.likelihoods:
        bins = [bin for bin in each.likelihood.reliability if bin.said > 0 and bin.taken > 0]
        at, taken = [bin.said for bin in bins], [bin.taken for bin in bins]
        reach = [[bin.taken - bin.low for bin in bins], [bin.high - bin.taken for bin in bins]]
        look = _style(findings, each.contender)
        axes.errorbar(at, taken, yerr=reach, label=each.contender, capsize=3, linewidth=1, **look)
    for scale, axis in ((axes.set_xscale, axes.xaxis), (axes.set_yscale, axes.yaxis)):
        scale("log")
        axis.set_major_formatter(lambda share, _: f"{100 * share:g} %")
    axes.set_xlabel("chance said")
    axes.set_ylabel("share taken")
    _beside(axes)
    return figure
