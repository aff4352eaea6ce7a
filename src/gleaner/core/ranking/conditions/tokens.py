"""The words and signs of a condition."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import NoReturn

from gleaner.core.errors import InputError

MAX_LENGTH = 4000
TOKEN = re.compile(
    r"""\s*(?:(?P<number>\d+(?:\.\d+)?(?:[eE][+-]?\d+)?)|(?P<text>'(?:[^']|'')*')|(?P<quoted>"(?:[^"]|"")+")
    |(?P<parameter>:[^\W\d]\w*\.[^\W\d]\w*)|(?P<word>[^\W\d]\w*)|(?P<sign><=|>=|<>|!=|[=<>(),+-]))""",
    re.VERBOSE,
)
KEYWORDS = {"AND", "OR", "NOT", "IN", "BETWEEN", "LIKE", "IS", "NULL", "TRUE", "FALSE", "DATE", "TIMESTAMP", "INTERVAL"}


@dataclass(frozen=True)
class Token:
    """One of them, with the place where it begins. kind: a group of TOKEN, keyword, or end."""

    kind: str
    value: str
    at: int


def scan(text: str) -> list[Token]:
    """The tokens of a condition and an end. Raises InputError at what is none."""
    if len(text) > MAX_LENGTH:
        raise InputError(f"the condition is longer than {MAX_LENGTH} characters", where="where")
    tokens, at, end = [], 0, len(text.rstrip())
    while at < end:
        match = TOKEN.match(text, at)
        if match is None or match.lastgroup is None:
            start = at + len(text[at:]) - len(text[at:].lstrip())
            raise InputError(f"character {start + 1}: {text[start]!r} is not part of a condition", where="where")
        kind = match.lastgroup
        value = match.group(kind)
        if kind == "word" and value.upper() in KEYWORDS:
            kind, value = "keyword", value.upper()
        tokens.append(Token(kind, value, match.start(match.lastgroup)))
        at = match.end()
    return [*tokens, Token("end", "", end)]


def written(column: str) -> str:
    """A column's name as a condition has it: in double quotes where it is not a plain word."""
    tokens = TOKEN.fullmatch(column)
    plain = tokens is not None and tokens["word"] == column and column.upper() not in KEYWORDS
    return column if plain else '"' + column.replace('"', '""') + '"'


class Tokens:
    """A walk along the tokens of a condition."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.tokens = scan(text)
        self.place = 0

    def peek(self, ahead: int = 0) -> Token:
        """The next token, or one behind it."""
        return self.tokens[min(self.place + ahead, len(self.tokens) - 1)]

    def take(self) -> Token:
        """The next token, passed."""
        token = self.peek()
        self.place += 1
        return token

    def accept(self, *values: str) -> bool:
        """Pass the next token where it is one of these keywords or signs."""
        if self.peek().kind in ("keyword", "sign") and self.peek().value in values:
            self.place += 1
            return True
        return False

    def expect(self, value: str) -> None:
        """Pass this keyword or sign, or fail."""
        if not self.accept(value):
            fail(self.peek(), value)

    def calls(self, name: str, ahead: int = 0) -> bool:
        """Whether a call of this function is next."""
        token = self.peek(ahead)
        return token.kind == "word" and token.value.lower() == name and self.peek(ahead + 1).value == "("


def fail(token: Token, wanted: str) -> NoReturn:
    """Say what was expected where something else stands."""
    instead = f"{token.value!r}" if token.kind != "end" else "the end"
    raise InputError(f"character {token.at + 1}: expected {wanted}, found {instead}", where="where")


def refuse(at: int, text: str) -> NoReturn:
    """Say what does not fit at a place."""
    raise InputError(f"character {at + 1}: {text}", where="where")
