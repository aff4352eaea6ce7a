"""What a report consists of, before it is written as HTML or Markdown."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass(frozen=True)
class Heading:
    """A heading; level 1 is the title."""

    text: str
    level: int = 2


@dataclass(frozen=True)
class Text:
    """A paragraph. weight: `plain`, `strong` for what answers the question, `small` for what explains a figure."""

    text: str
    weight: str = "plain"


@dataclass(frozen=True)
class BulletList:
    """A list of sentences."""

    items: list[str]


@dataclass(frozen=True)
class Table:
    """Cells as text; `right`: columns of figures, by place."""

    columns: list[str]
    rows: list[list[str]]
    right: set[int] = field(default_factory=set)


@dataclass(frozen=True)
class Plot:
    """A plot by its name, with its caption."""

    name: str
    caption: str


@dataclass(frozen=True)
class Code:
    """Text as it stands in a file."""

    text: str


Block = Heading | Text | BulletList | Table | Plot | Code
