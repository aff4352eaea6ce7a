"""Tables that fit their terminal: headings break first, then texts; columns that still find no room go below."""

from __future__ import annotations

import re
from collections.abc import Iterable

from rich import box
from rich.console import Console, ConsoleOptions, RenderResult
from rich.table import Column, Table
from rich.text import Text

GAP = 3
"""Between two columns: a blank on either side, and one where lines may be."""
EDGES = 2
"""A blank on either side of all."""
TEXT, WORD = 12, 28
"""Texts are broken down to this width, between their words where those are no longer than WORD."""


class FittedTable(Table):
    """A table of which no figure is ever cut. Columns named in `right` hold figures; these and those of `whole` keep
    their cells in one piece."""

    def __init__(self, names: Iterable[str], right: Iterable[str], whole: Iterable[str]) -> None:
        super().__init__(box=box.SIMPLE_HEAD, pad_edge=False)
        for name in names:
            kept = name in right or name in whole
            self.add_column(name, justify="right" if name in right else "left", overflow="fold", no_wrap=kept)

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        sizes = [[console.measure(cell) for cell in each.cells] for each in self.columns]
        bodies = [max((size.maximum for size in of), default=0) for of in sizes]
        words = [max((size.minimum for size in of), default=0) for of in sizes]
        headings = [str(each.header) if self.show_header else "" for each in self.columns]
        natural = [max(body, *map(len, heading.split("\n"))) for body, heading in zip(bodies, headings, strict=True)]
        least = [
            max(body if column.no_wrap else min(body, max(TEXT, min(word, WORD))), *map(len, _pieces(heading)))
            for column, body, word, heading in zip(self.columns, bodies, words, headings, strict=True)
        ]
        room = options.max_width - EDGES
        for block in _blocks(least, 2 if headings[0] == "" else 1, room):
            widths = _shared([least[at] for at in block], [natural[at] for at in block], room)
            yield self._block([self.columns[at] for at in block], [headings[at] for at in block], widths)

    def _block(self, columns: list[Column], headings: list[str], widths: list[int]) -> Table:
        table = Table(box=self.box, pad_edge=self.pad_edge, show_header=self.show_header)
        for column, heading, width in zip(columns, headings, widths, strict=True):
            table.add_column(Text(_broken(heading, width)), justify=column.justify, overflow="fold", width=width)
        for row in zip(*(column.cells for column in columns), strict=True):
            table.add_row(*row)
        return table


def _pieces(heading: str) -> list[str]:
    """Where a heading may be broken: after a blank, a hyphen, an underscore, a stop, a colon."""
    return re.findall(r"[^-\s_.:@]*[-_.:@]+|[^-\s_.:@]+", heading) or [""]


def _broken(heading: str, width: int) -> str:
    """A heading in lines of at most so many characters."""
    lines: list[str] = []
    for line in heading.split("\n"):
        lines.append("")
        for word in re.findall(r"[^-\s_.:@]*[-_.:@]+\s*|[^-\s_.:@]+\s*", line):
            if lines[-1] and len(lines[-1]) + len(word.rstrip()) > width:
                lines.append("")
            lines[-1] += word
    return "\n".join(line.rstrip() for line in lines)


def _blocks(least: list[int], keys: int, room: int) -> list[list[int]]:
    """Columns in blocks that fit, each beginning with the first ones."""
    blocks = [list(range(min(keys, len(least))))]
    for at in range(keys, len(least)):
        block = blocks[-1]
        if len(block) > keys and sum(least[each] + GAP for each in [*block, at]) - GAP > room:
            blocks.append([*range(keys), at])
        else:
            block.append(at)
    return blocks


def _shared(least: list[int], natural: list[int], room: int) -> list[int]:
    """Widths of a block's columns: what is left goes to those that need least more first."""
    left = room - sum(least) - GAP * (len(least) - 1)
    widths = list(least)
    order = sorted(range(len(least)), key=lambda at: natural[at] - least[at])
    for done, at in enumerate(order):
        more = min(max(natural[at] - least[at], 0), max(left, 0) // (len(order) - done))
        widths[at] += more
        left -= more
    return widths
