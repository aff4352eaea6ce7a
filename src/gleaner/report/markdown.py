"""A report as Markdown; its plots are files beside it."""

from __future__ import annotations

from gleaner.report.blocks import Block, BulletList, Code, Heading, Plot, Table, Text
from gleaner.report.content import blocks
from gleaner.report.report_data import ReportData

PLOTS = "plots"
"""The folder beside the file."""


def page(findings: ReportData) -> str:
    """The whole text."""
    return "\n\n".join(_block(block) for block in blocks(findings)) + "\n"


def _block(block: Block) -> str:
    if isinstance(block, Heading):
        return f"{'#' * block.level} {block.text}"
    if isinstance(block, Text):
        text = _escaped(block.text)
        return f"**{text}**" if block.weight == "strong" else text
    if isinstance(block, BulletList):
        return "\n".join(f"- {_escaped(item)}" for item in block.items)
    if isinstance(block, Code):
        return f"```yaml\n{block.text.rstrip()}\n```"
    if isinstance(block, Plot):
        return f"![{block.caption}]({PLOTS}/{block.name}.svg)\n\n*{_escaped(block.caption)}*"
    return _table(block)


def _table(block: Table) -> str:
    rules = ["---:" if place in block.right else "---" for place in range(len(block.columns))]
    return "\n".join(_row(row) for row in [block.columns, rules, *block.rows])


def _row(cells: list[str]) -> str:
    return f"| {' | '.join(_escaped(cell).replace('|', chr(92) + '|') for cell in cells)} |"


def _escaped(text: str) -> str:
    return text.replace("\n", " ").replace("*", "\\*").replace("<", "&lt;")
