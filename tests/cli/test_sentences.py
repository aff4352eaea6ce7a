"""Sentences that are longer than a line."""

from __future__ import annotations

import io

import pytest

from gleaner.cli.sentences import SentenceConsole

SENTENCE = "guard not passed: 0.5461 beside 0.6504"


@pytest.mark.parametrize(
    ("terminal", "printed"),
    [(True, "guard not\npassed: 0.5461\nbeside 0.6504\n"), (False, f"{SENTENCE}\n")],
    ids=["terminal", "pipe"],
)
def test_no_figure_is_broken(terminal, printed):
    out = io.StringIO()
    SentenceConsole(file=out, force_terminal=terminal, width=16, highlight=False).print(SENTENCE, soft_wrap=True)
    # rich leaves the blank at which it broke
    assert "".join(f"{line.rstrip()}\n" for line in out.getvalue().splitlines()) == printed
