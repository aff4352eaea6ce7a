"""A report from findings: first which one to ship and how sure that is, then what it rests on."""

from __future__ import annotations

from gleaner.report.blocks import Block, BulletList, Code, Heading, Plot, Table, Text
from gleaner.report.plots import available
from gleaner.report.report_data import ReportData
from gleaner.report.shelves import shelf_blocks
from gleaner.wire.contests.runs import Ablation, Figure, PairDifference, Standing

MOST_PAIRS = 40
MOST_ATTEMPTS = 10


def blocks(findings: ReportData) -> list[Block]:
    """The whole report."""
    plots = {name: Plot(name, caption) for name, (caption, _) in available(findings).items()}
    content: list[Block] = [*_answer(findings), *_leaderboard(findings, plots), *_differences(findings)]
    for each in findings.shelves:
        content += shelf_blocks(each)
    content += _tuning(findings, plots)
    named = ["curve-by-amount", "curve-by-iteration", "losses"]
    if any(name in plots for name in named):
        content += [Heading("Learning curves"), *[plots[name] for name in named if name in plots]]
    if findings.segments:
        content.append(Heading("Where each is good"))
        content += [plots[f"by-{each.by.replace(':', '-')}"] for each in findings.segments]
        content += [Text(each.left_out, "small") for each in findings.segments if each.left_out][:1]
    if "predicted-against-actual" in plots:
        content += [Heading("Predicted values"), plots["predicted-against-actual"]]
    if findings.likelihoods:
        content += [Heading("Chances"), plots["reliability"], _chances(findings)]
    return content + _figures(findings) + _basis(findings)


def _chances(findings: ReportData) -> Table:
    """What the chances of each were worth."""
    rows = [
        [
            each.contender,
            f"{each.likelihood.brier:.5f}",
            f"{each.likelihood.log_loss:.5f}",
            f"{each.likelihood.base_rate:.3%}",
        ]
        for each in findings.likelihoods
    ]
    return Table(["contender", "Brier score", "log loss", "share taken of all"], rows, right={1, 2, 3})


def _answer(findings: ReportData) -> list[Block]:
    run, choice = findings.run, findings.choice
    blocks: list[Block] = [
        Heading(f"{run.name}: which one to ship", 1),
        Text(f"{run.data}, {run.decide_by} decides. {run.created_at:%Y-%m-%d %H:%M} UTC.", "small"),
        Text(f"Ship {choice.chosen}.", "strong"),
        Text(choice.why),
    ]
    winner = next(each for each in run.standings if each.contender == run.winner)
    test, against = winner.figure(run.decide_by), winner.against_popular
    if test is not None:
        sure = "" if test.low is None else f" (95 % of resamples of users: {test.low:.4f} to {test.high:.4f})"
        where = "On the test part" if run.caution else "On the test part, which chose nothing"
        text = f"{where}, {winner.contender} has {run.decide_by} {test.mean:.4f}{sure}."
        if against is not None and against.verdict != "baseline":
            beats = {
                "better": "It is better than",
                "worse": "It is worse than",
                "cannot tell": "It is not shown to beat",
            }
            text += f" {beats[against.verdict]} {run.spec.baseline}: {against.difference:+.4f}."
        blocks.append(Text(text))
    if run.caution:
        blocks.append(Text(run.caution, "strong"))
    if findings.against is not None and findings.against.chosen != choice.chosen:
        # what both say stands above already
        why = findings.against.why.removeprefix(choice.why).strip()
        blocks.append(Text(f"Weighed against {findings.against.against}: {why[:1].lower()}{why[1:]}"))
    leaks = [part for part in run.parts if part.leak and part.leak.leaks]
    blocks += [Text(f"Beware of the {part.label} part: {part.leak.verdict}", "strong") for part in leaks if part.leak]
    return blocks


def _leaderboard(findings: ReportData, plots: dict[str, Plot]) -> list[Block]:
    run = findings.run
    # those at a cut-off first
    others = [each.label for each in sorted(run.spec.rank.beside(), key=lambda each: each.k is None)]
    columns = [
        "",
        "contender",
        run.decide_by,
        "95 %",
        *others,
        f"against {run.spec.baseline}",
        "fit s",
        "list ms",
        "MB",
    ]
    rows = []
    for place, each in enumerate(run.standings, start=1):
        got = each.figure(run.decide_by)
        name = f"{each.contender} ★" if each.contender == run.winner else each.contender
        costs = [
            f"{each.fit_seconds:.2f}",
            "" if each.list_ms is None else f"{each.list_ms:.3f}",
            f"{each.peak_memory_mb:,.0f}",
        ]
        figures = [_mean(each.figure(other)) for other in others]
        rows.append(
            [str(place), name, "" if got is None else f"{got.mean:.4f}", _span(got), *figures, _against(each), *costs]
        )
    right = {0, 2, *range(4, 4 + len(others)), *range(len(columns) - 3, len(columns))}
    blocks: list[Block] = [Heading("Leaderboard"), Table(columns, rows, right), plots["leaderboard"]]
    blocks.append(
        Text(
            f"★ is best on {run.chosen_on}. Figures are those of the test part, ± half of their 95 % interval. "
            "Times are of the machine that ran it, MB those of the fit alone.",
            "small",
        )
    )
    return blocks + [plots[name] for name in ("by-cutoff", "frontier") if name in plots]


def _differences(findings: ReportData) -> list[Block]:
    comparison = findings.run.comparison
    if comparison is None:
        return []
    section: list[Block] = [Heading("What can be told"), BulletList(comparison.summary)]
    if comparison.ablations:
        rows = [[each.lacks, each.contender, *_gap(each), each.verdict] for each in comparison.ablations]
        columns = ["part", "of", f"adds to {comparison.metric}", "95 %", "p (Holm)", ""]
        section += [Heading("What parts of the preparation add", 3), Table(columns, rows, {2, 4})]
    ordered = sorted(comparison.pairs, key=lambda each: (each.p_holm, -abs(each.difference)))[:MOST_PAIRS]
    rows = [[each.first, each.second, *_gap(each), each.verdict] for each in ordered]
    section += [
        Heading("Every pair", 3),
        Table(["first", "second", "difference", "95 %", "p (Holm)", "the first is"], rows, {2, 4}),
    ]
    return section


def _gap(gap: PairDifference | Ablation) -> list[str]:
    return [f"{gap.difference:+.4f}", f"{gap.low:+.4f} to {gap.high:+.4f}", f"{gap.p_holm:.3g}"]


def _tuning(findings: ReportData, plots: dict[str, Plot]) -> list[Block]:
    if not findings.tunings:
        return []
    section: list[Block] = [
        Heading("Tuning"),
        Text("Every attempt was fitted on training and scored on validation.", "small"),
    ]
    for tuning in findings.tunings:
        section.append(Heading(tuning.contender, 3))
        states = [each.state for each in tuning.attempts]
        text = f"{len(states)} attempts, {states.count('pruned')} pruned, {states.count('failed')} failed"
        if tuning.result is not None:
            text += f"; {tuning.result.search} search, ended by: {tuning.result.stopped_by}"
        section.append(Text(f"{text}."))
        sign = -1 if tuning.less_is_better else 1
        done = [each for each in tuning.attempts if each.state == "done" and each.value is not None]
        best = sorted(done, key=lambda each: -sign * (each.value or 0))[:MOST_ATTEMPTS]
        names = list(tuning.ranges)
        rows = [[str(each.number), *[str(each.chosen[name]) for name in names], f"{each.value:.4f}"] for each in best]
        section.append(Table(["attempt", *names, tuning.metric], rows, {0, len(names) + 1}))
        section += [plots[name] for name in (f"tuning-{tuning.contender}", f"rank-{tuning.contender}") if name in plots]
    return section


def _figures(findings: ReportData) -> list[Block]:
    """Every metric of every contender on the test part."""
    run = findings.run
    labels = [each.contender for each in run.standings]
    rows = [[name, *[_mean(each.figure(name)) for each in run.standings]] for name in run.spec.rank.names()]
    return [Heading("Every figure of the test part"), Table(["metric", *labels], rows, set(range(1, len(labels) + 1)))]


def _basis(findings: ReportData) -> list[Block]:
    """What the figures mean and where they come from."""
    run, data = findings.run, findings.data
    section: list[Block] = [Heading("What the figures mean")]
    section.append(Table(["", "definition"], [[name, text] for name, text in run.definitions.items()]))
    section.append(Heading("Where they come from"))
    rows = [
        ["data", f"{data.name}: {data.rows:,} rows, {data.users:,} users, {data.items:,} items"],
        ["content hash", data.content_hash],
        ["seed", str(run.spec.seed)],
        ["run", f"{run.name}, job {run.job}, {run.created_at:%Y-%m-%d %H:%M:%S} UTC"],
    ]
    rows += [
        ["preparation", f"{step.name}: {step.rows_in:,} to {step.rows_out:,} rows; {step.note}"]
        for step in run.preparation
    ]
    for part in run.parts:
        text = f"{part.rows:,} rows, {part.users:,} users, {part.items:,} items"
        if part.users_counted is not None:
            text += f"; scored on {part.users_counted:,} users with {part.pairs_counted:,} relevant items"
        if part.leak is not None:
            text += f"; {part.leak.verdict}"
        rows.append([part.label, text])
    rows += [["model", f"{each.model}: {each.family}, {_params(each)}"] for each in run.standings if each.model]
    section += [Table(["", ""], rows), Heading("The contest file", 3), Code(run.file)]
    return section


def _params(standing: Standing) -> str:
    settings = [f"{name} {value}" for name, value in standing.params.items() if value is not None]
    return ", ".join(settings) or "no parameters"


def _mean(figure: Figure | None) -> str:
    if figure is None:
        return ""
    if figure.low is None or figure.high is None:
        return f"{figure.mean:.4f}"
    return f"{figure.mean:.4f} ±{(figure.high - figure.low) / 2:.4f}"


def _span(figure: Figure | None) -> str:
    return "" if figure is None or figure.low is None else f"{figure.low:.4f} to {figure.high:.4f}"


def _against(standing: Standing) -> str:
    gap = standing.against_popular
    if gap is None:
        return ""
    return gap.verdict if gap.verdict == "baseline" else f"{gap.verdict} ({gap.difference:+.4f})"
