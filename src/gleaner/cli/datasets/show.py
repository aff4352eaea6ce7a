"""How a version, its profile and its import report look in a terminal."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from gleaner.cli.common import console, table, version_option

if TYPE_CHECKING:
    from rich.console import Console

    from gleaner.client import Client
    from gleaner.wire.datasets import DatasetVersion, Profile
    from gleaner.wire.imports import ImportLook, ImportReport

SPARKS = "▁▂▃▄▅▆▇█"
BAR, PART_BARS = "█", " ▏▎▍▌▋▊▉"
BAR_WIDTH = 30


def newest(client: Client, reference: str) -> DatasetVersion:
    """A version by its name, or the newest of a dataset. Raises BadParameter on what names no version."""
    from gleaner.client import data_calls

    name, number = version_option(reference, "VERSION")
    if number is None:
        versions = client.send(data_calls.dataset(name)).versions
        if not versions:
            raise click.UsageError(f"every version of {name} was removed")
        number = versions[0].number
    return client.send(data_calls.dataset_version(name, number))


def show_version(version: DatasetVersion) -> None:
    """Counts, activity, time span, columns, and what import found."""
    out = console()
    profile = version.profile
    base = f", rows added to {version.base}" if version.base else ""
    out.print(f"[bold]{version.name}[/]  {profile.rows:,} rows, {profile.users:,} users, {profile.items:,} items{base}")
    facts = table("", "", right=())
    facts.show_header = False
    facts.add_row("density", f"{profile.density:.3%} of all user-item cells")
    if profile.span and profile.span.first and profile.span.last:
        facts.add_row("time", f"{profile.span.first:%Y-%m-%d} to {profile.span.last:%Y-%m-%d} (UTC)")
    if profile.kinds:
        facts.add_row("kinds", ", ".join(f"{count.kind or '(none)'} {count.rows:,}" for count in profile.kinds))
    if profile.values and profile.values.n:
        values = profile.values
        facts.add_row(
            "values",
            f"{values.min:g} to {values.max:g}, mean {values.mean:.2f}; {values.missing:,} rows have none",
        )
    if version.parts:
        facts.add_row("parts", ", ".join(f"{part} {rows:,}" for part, rows in version.parts.items()))
    for side in ("user", "item"):
        spread = getattr(profile, f"rows_per_{side}")
        facts.add_row(
            f"rows per {side}",
            f"median {spread['median']:g}, 99 % below {spread['q99']:.0f}, most {spread['max']:g}",
        )
    tenth = next(point.rows for point in profile.long_tail if point.items >= 0.1)
    facts.add_row("long tail", f"the most popular tenth of items holds {tenth:.0%} of rows; Gini {profile.gini:.2f}")
    if profile.over_time and profile.over_time.points:
        facts.add_row(f"rows per {period(profile.over_time.period)}", spark(profile) + cut_off(profile))
    for name, columns in (
        ("context", version.context_columns),
        ("item columns", version.item_columns),
        ("user columns", version.user_columns),
    ):
        if columns:
            facts.add_row(name, ", ".join(f"{c.name} ({c.type})" for c in columns if c.type != "id"))
    facts.add_row("missing cells", missing_cells(version))
    facts.add_row("content hash", version.content_hash[:16])
    if version.forgotten:
        facts.add_row("forgotten", f"{version.forgotten} users since the import")
    out.print(facts)
    show_report(version.report, out)


def missing_cells(version: DatasetVersion) -> str:
    """How many cells each column lacks, in a sentence."""
    parts = []
    counts: dict[str, int] = {}
    for file in version.report.files:
        if file.part.startswith("interactions"):
            for name, n in file.missing.items():
                counts[name] = counts.get(name, 0) + n
    groups = {"": counts}
    for side, columns in (("items", version.item_columns), ("users", version.user_columns)):
        groups[side] = {column.name: column.missing for column in columns if column.missing}
    for side, missing in groups.items():
        parts += [f"{side}.{name} {n:,}" if side else f"{name} {n:,}" for name, n in missing.items()]
    return ", ".join(parts) or "none"


def show_look(look: ImportLook) -> None:
    """What an import would keep, drop and find."""
    out = console()
    counts = f"{look.rows:,} rows of {look.users:,} users and {look.items:,} items"
    out.print(f"An import would keep {counts}; this was a look, and nothing was kept.", soft_wrap=True)
    show_report(look.report, out)


def show_report(report: ImportReport, out: Console) -> None:
    """What import read, dropped and found."""
    for file in report.files:
        if file.rows_read != file.rows_kept:
            out.print(f"{file.file}: {file.rows_kept:,} of {file.rows_read:,} rows kept", soft_wrap=True)
        for dropped in file.dropped:
            such = f" (such as {'; '.join(dropped.examples[:3])})" if dropped.examples else ""
            out.print(f"[yellow]dropped:[/] {dropped.rows:,} because {dropped.reason}{such}", soft_wrap=True)
        if file.unused:
            out.print(f"[dim]info:[/] {file.file}: columns left out: {', '.join(file.unused)}", soft_wrap=True)
    for finding in report.findings:
        examples = f" (such as {', '.join(finding.examples)})" if finding.examples else ""
        colour = "yellow" if finding.level == "warning" else "dim"
        out.print(f"[{colour}]{finding.level}:[/] {finding.text}{examples}", soft_wrap=True)


def show_profile(version: DatasetVersion) -> None:
    """The profile with small plots."""
    out = console()
    profile = version.profile
    out.print(f"[bold]{version.name}[/]  {profile.rows:,} rows, {profile.users:,} users, {profile.items:,} items, "
              f"density {profile.density:.3%}\n")  # fmt: skip
    out.print(f"[bold]Long tail[/]  Gini {profile.gini:.3f}")
    tail = table("most popular items", "rows they hold", "", right=("most popular items", "rows they hold"))
    for share in (0.01, 0.05, 0.1, 0.2, 0.5):
        point = next(point for point in profile.long_tail if point.items >= share - 1e-9)
        tail.add_row(f"{point.items:.0%}", f"{point.rows:.0%}", bar(point.rows))
    out.print(tail)
    for side in ("user", "item"):
        bins = profile.activity.get(side, [])
        rows = [(_range([b.at for b in bins], at), b.count) for at, b in enumerate(bins)]
        _histogram(out, f"Rows per {side}", f"{side}s", rows)
        cold = profile.cold.get(side, [])
        if cold:
            shares = ", ".join(f"{c.count:,} ({c.share:.0%}) with at most {c.at_most}" for c in cold)
            out.print(f"  cold {side}s: {shares}\n", soft_wrap=True)
    if profile.values and profile.values.histogram:
        mean = f", mean {profile.values.mean:.2f}" if profile.values.mean is not None else ""
        rows = [(f"{b.at:g}", b.rows) for b in profile.values.histogram]
        title = f"Values  {profile.values.missing:,} rows have none{mean}"
        _histogram(out, title, "rows", rows)
    for side in ("user", "item"):
        bins_of = profile.means.get(side, [])
        if bins_of:
            _histogram(out, f"Mean value by {side}", f"{side}s", [(f"{b.at:.2f}", b.rows) for b in bins_of if b.rows])
    if profile.over_time and profile.over_time.points:
        out.print(f"[bold]Rows per {period(profile.over_time.period)}[/]{cut_off(profile)}")
        for kind in dict.fromkeys(point.kind for point in profile.over_time.points):
            out.print(f"  {kind or '':10} {spark(profile, kind)}")


def _range(edges: list[int], at: int) -> str:
    low = edges[at]
    if at + 1 == len(edges):
        return f"{low:,}+"
    high = edges[at + 1] - 1
    return f"{low:,}" if high == low else f"{low:,}-{high:,}"


def _histogram(out: Console, title: str, what: str, rows: list[tuple[str, int]]) -> None:
    out.print(f"[bold]{title}[/]")
    most = max((count for _, count in rows), default=1) or 1
    shown = table("", what, " ", right=("", what))
    for label, count in rows:
        shown.add_row(label, f"{count:,}", bar(count / most))
    out.print(shown)


def bar(share: float) -> str:
    """A share as a bar of eighths."""
    eighths = round(share * BAR_WIDTH * 8)
    return BAR * (eighths // 8) + PART_BARS[eighths % 8].strip()


def period(code: str) -> str:
    """A period in words."""
    return {"1d": "day", "1w": "week", "1mo": "month", "1y": "year"}[code]


def cut_off(profile: Profile) -> str:
    """What the line of blocks leaves out, in words."""
    left_out = profile.over_time.left_out if profile.over_time else 0
    return (
        f"  without {left_out:,} {'row' if left_out == 1 else 'rows'} at times far from all others" if left_out else ""
    )


def spark(profile: Profile, kind: str | None = None) -> str:
    """Rows over time, of one kind or of all, as a line of blocks, at most 60 of them."""
    assert profile.over_time is not None
    totals: dict[str, int] = dict.fromkeys((point.at for point in profile.over_time.points), 0)
    for point in profile.over_time.points:
        if kind is None or point.kind == kind:
            totals[point.at] += point.rows
    counts = list(totals.values())
    step = -(-len(counts) // 60)
    sums = [sum(counts[lo : lo + step]) for lo in range(0, len(counts), step)]
    if len(counts) % step:
        sums.pop()
    most = max(sums, default=1) or 1
    return "".join(SPARKS[min(7, round(7 * each / most))] for each in sums)
