"""A report as one HTML file that needs nothing else."""

from __future__ import annotations

import re
from collections.abc import Callable
from html import escape

from gleaner.report.blocks import Block, BulletList, Code, Heading, Plot, Table, Text
from gleaner.report.content import blocks
from gleaner.report.plots import drawn
from gleaner.report.report_data import ReportData

STYLE = """
:root { color-scheme: light dark; --ink: #2b2721; --dim: #665f52; --ground: #faf6ec; --rule: #d9d0bd; --leaf: #2f6b41; }
@media (prefers-color-scheme: dark) {
  :root { --ink: #e9e2d3; --dim: #a79f8f; --ground: #1c1a16; --rule: #3a352d; --leaf: #8bb993; }
}
body { margin: 0 auto; max-width: 64rem; padding: 2.5rem 1.5rem 4rem; background: var(--ground); color: var(--ink);
  font: 15px/1.5 system-ui, sans-serif; }
h1, h2 { font-family: Georgia, serif; font-weight: 600; line-height: 1.2; }
h1 { font-size: 1.9rem; margin: 0 0 .3rem; }
h2 { font-size: 1.35rem; margin: 2.6rem 0 .6rem; border-top: 1px solid var(--rule); padding-top: 1.2rem; }
h3 { font-size: 1rem; margin: 1.6rem 0 .4rem; }
p { margin: .5rem 0; max-width: 48rem; }
.strong { font-size: 1.25rem; font-weight: 600; color: var(--leaf); }
.small { color: var(--dim); font-size: .86rem; }
.wide { overflow-x: auto; }
table { border-collapse: collapse; font-size: .86rem; font-variant-numeric: tabular-nums; margin: .6rem 0; }
th, td { text-align: left; padding: .28rem .7rem .28rem 0; vertical-align: top; border-bottom: 1px solid var(--rule); }
th { font-weight: 600; color: var(--dim); white-space: nowrap; }
.right { text-align: right; white-space: nowrap; }
figure { margin: 1rem 0; }
figure svg { max-width: 100%; height: auto; background: #fff; border-radius: 4px; }
figcaption { color: var(--dim); font-size: .86rem; }
pre { font: 12.5px/1.5 ui-monospace, monospace; overflow-x: auto; border-left: 3px solid var(--rule);
  padding-left: 1rem; }
@media print { body { max-width: none; padding: 0; } h2 { break-after: avoid; } figure, table { break-inside: avoid; } }
"""


def page(findings: ReportData, svg_of: Callable[[str], bytes] | None = None) -> str:
    """The whole page. svg_of: its plots by name, where they are drawn already."""
    title = escape(f"{findings.run.name}: contest report")
    find = svg_of or (lambda name: drawn(findings, name, "svg"))
    body = "\n".join(_block(block, find) for block in blocks(findings))
    head = f'<meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>{title}</title>'
    whole = f'<html lang="en"><head>{head}<style>{STYLE}</style></head>\n<body><main>\n{body}\n</main></body></html>'
    return f"<!doctype html>\n{whole}\n"


def _block(block: Block, svg_of: Callable[[str], bytes]) -> str:
    if isinstance(block, Heading):
        return f"<h{block.level}>{escape(block.text)}</h{block.level}>"
    if isinstance(block, Text):
        kind = "" if block.weight == "plain" else f' class="{block.weight}"'
        return f"<p{kind}>{escape(block.text)}</p>"
    if isinstance(block, BulletList):
        return "<ul>" + "".join(f"<li>{escape(item)}</li>" for item in block.items) + "</ul>"
    if isinstance(block, Code):
        return f"<pre>{escape(block.text)}</pre>"
    if isinstance(block, Plot):
        return _plot(block, svg_of(block.name).decode())
    return _table(block)


def _plot(block: Plot, svg: str) -> str:
    svg = svg[svg.index("<svg") :]
    # ids are unique within one plot only
    svg = re.sub(r'(id="|href="#|url\(#)', rf"\g<1>{block.name}-", svg)
    labelled = svg.replace("<svg", f'<svg role="img" aria-label="{escape(block.caption)}"', 1)
    return f"<figure>{labelled}<figcaption>{escape(block.caption)}</figcaption></figure>"


def _table(block: Table) -> str:
    def cells(row: list[str], tag: str) -> str:
        kinds = [' class="right"' if place in block.right else "" for place in range(len(row))]
        return "".join(f"<{tag}{kind}>{escape(cell)}</{tag}>" for cell, kind in zip(row, kinds, strict=True))

    head = f"<thead><tr>{cells(block.columns, 'th')}</tr></thead>" if any(block.columns) else ""
    body = "".join(f"<tr>{cells(row, 'td')}</tr>" for row in block.rows)
    return f'<div class="wide"><table>{head}<tbody>{body}</tbody></table></div>'
