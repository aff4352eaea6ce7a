"""How sentences are printed that are longer than a line."""

from __future__ import annotations

from typing import Any

from rich.console import Console


class SentenceConsole(Console):
    """What is printed with soft_wrap breaks between words in a terminal, and stays one line where it is piped."""

    def print(self, *objects: Any, soft_wrap: bool | None = None, **rest: Any) -> None:
        """As of any console."""
        super().print(*objects, soft_wrap=None if soft_wrap and self.is_terminal else soft_wrap, **rest)
