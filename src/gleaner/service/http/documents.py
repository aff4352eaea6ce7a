"""Contest and shelf files: YAML 1.2 text into messages, errors with their lines."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from copy import deepcopy
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError
from ruamel.yaml import YAML
from ruamel.yaml.comments import CommentedMap, CommentedSeq
from ruamel.yaml.error import MarkedYAMLError, YAMLError
from ruamel.yaml.events import AliasEvent, CollectionEndEvent, CollectionStartEvent
from ruamel.yaml.parser import RoundTripParser

from gleaner.service.http.problems import FieldsError
from gleaner.wire.common import FieldProblem
from gleaner.wire.fields import sentences

ROUNDS = 8
MAX_DEPTH = 50
MAX_EVENTS = 15_000
"""Keys, values, and beginnings and ends of lists and mappings of one file."""

T = TypeVar("T", bound=BaseModel)
Mend = Callable[[int, Any, tuple[Any, ...]], Any]
"""Of an entry's place, the entry and the path of what is wrong in it: the entry without that."""


class _NotPlainError(Exception):
    """A file has what no field needs. text: the end of a sentence that begins with the file."""

    def __init__(self, text: str, line: int | None = None) -> None:
        super().__init__(text)
        self.text, self.line = text, line


class _PlainParser(RoundTripParser):
    """Stops at aliases, which could make a small file into an endless tree, at deep nesting, and at very many entries.

    Reading an entry takes about a tenth of a millisecond, so their number bounds the time.
    """

    depth = n_events = 0

    def get_event(self) -> Any:
        """Return the next event of the file. Raise _NotPlainError for one that no field needs."""
        event = super().get_event()
        self.n_events += 1
        if isinstance(event, AliasEvent):
            raise _NotPlainError("uses YAML aliases, which are not allowed here")
        self.depth += isinstance(event, CollectionStartEvent) - isinstance(event, CollectionEndEvent)
        if self.depth > MAX_DEPTH:
            raise _NotPlainError(f"is nested more than {MAX_DEPTH} deep", event.start_mark.line + 1)
        if self.n_events > MAX_EVENTS:
            raise _NotPlainError(f"has more than {MAX_EVENTS:,} entries", event.start_mark.line + 1)
        return event


class Document:
    """One parsed file: its content as plain values, and the line of every field."""

    def __init__(self, text: str, name: str) -> None:
        self.name = name
        self.tree = self._parse(text)
        if not isinstance(self.tree, CommentedMap):
            raise FieldsError(f"{name} does not hold a mapping of fields", [])

    def read(self, message: type[T]) -> T:
        """The content as a message. Raises FieldsError with every mistake and its line."""
        try:
            return message.model_validate(_plain(self.tree))
        except ValidationError as error:
            problems = [self.problem(path, text) for path, text in sentences(message, error)]
            raise self.refuse(problems) from error

    def read_what_is_right(
        self,
        message: type[T],
        instead: dict[str, Any],
        of_list: dict[str, Mend] | None = None,
        known: Iterable[tuple[tuple[Any, ...], str]] = (),
    ) -> tuple[T | None, list[FieldProblem]]:
        """The content without the fields that are wrong, and every mistake: so that what else is wrong can be looked
        for beside them. None where too little is left.

        instead: what stands for fields that must be there; of_list: for lists, what stands for an entry that is wrong.
        known: what is wrong in such lists before they are read, and why.
        """
        reading = _Reading(_plain(self.tree), instead, of_list or {})
        problems = [self.problem(path, text) for path, text in known]
        for path, _ in known:
            reading.take_out(path)
        for _ in range(ROUNDS):
            try:
                return message.model_validate(reading.content), problems
            except ValidationError as error:
                mistakes = sentences(message, error)
                for at, (path, text) in enumerate(mistakes):
                    if not reading.caused(path):
                        problems.append(self.problem(path, text))
                    if not reading.take_out(path):
                        return None, problems + [self.problem(*each) for each in mistakes[at + 1 :]]
        return None, problems

    def problem(self, path: tuple[Any, ...], message: str) -> FieldProblem:
        """One mistake, with the line of the field, or of the nearest one around it."""
        return FieldProblem(field=".".join(map(str, path)) or self.name, message=message, line=self._line(path))

    def refuse(self, problems: list[FieldProblem]) -> FieldsError:
        """The error that carries these mistakes."""
        lines = [f"{self.name}:{p.line or 1}: {p.field}: {p.message}" for p in problems]
        return FieldsError("; ".join(lines), problems)

    def _parse(self, text: str) -> Any:
        yaml = YAML(typ="rt")
        yaml.version = (1, 2)
        yaml.Parser = _PlainParser
        try:
            return yaml.load(text)
        except _NotPlainError as error:
            problems = (
                [] if error.line is None else [FieldProblem(field=self.name, message=error.text, line=error.line)]
            )
            where = self.name if error.line is None else f"{self.name}:{error.line}"
            raise FieldsError(f"{where}: it {error.text}", problems) from None
        except MarkedYAMLError as error:
            line = error.problem_mark.line + 1 if error.problem_mark else 1
            message = " ".join(str(error.problem or error.context or "cannot be read").split())
            tree = FieldProblem(field=self.name, message=message, line=line)
            raise FieldsError(f"{self.name}:{line}: this is not YAML: {message}", [tree]) from error
        except YAMLError as error:
            raise FieldsError(f"{self.name} is not YAML: {' '.join(str(error).split())}", []) from error

    def _line(self, path: tuple[Any, ...]) -> int:
        node, line = self.tree, 1
        for step in path:
            if isinstance(node, CommentedMap) and step in node:
                line = node.lc.key(step)[0] + 1
            elif isinstance(node, CommentedSeq) and isinstance(step, int) and step < len(node):
                line = node.lc.item(step)[0] + 1
            else:
                # a step of ours that the file writes in a shorter form
                continue
            node = node[step]
        return line


class _Reading:
    """The content of a file, from which what is wrong is taken out until the rest can be read."""

    def __init__(self, content: Any, instead: dict[str, Any], of_list: dict[str, Mend]) -> None:
        self.content = content
        self.instead = instead
        self.of_list = of_list
        self._taken: list[tuple[Any, ...]] = []

    def caused(self, path: tuple[Any, ...]) -> bool:
        """Whether this is wrong only because something of it was taken out before."""
        return any(taken[: len(path)] == path for taken in self._taken)

    def take_out(self, path: tuple[Any, ...]) -> bool:
        """Take out what is wrong: an entry's field, or the field, or the nearest around it that is there. False where
        nothing is left to take."""
        self._taken.append(path)
        if not path:
            return False
        field = path[0]
        if len(path) > 1 and field in self.of_list and isinstance(path[1], int):
            entries = self.content[field]
            entries[path[1]] = self.of_list[field](path[1], entries[path[1]], path[2:])
            return True
        steps = path
        while steps and not _taken_out(self.content, steps):
            steps = steps[:-1]
        if field in self.instead:
            self.content[field] = deepcopy(self.instead[field])
        return bool(steps) or field in self.instead


def _taken_out(content: Any, path: tuple[Any, ...]) -> bool:
    """Take a field out of the content, or of a list the whole field. False where it is not there."""
    for place, step in enumerate(path):
        inner = content.get(step) if isinstance(content, dict) else None
        if place == len(path) - 1 or not isinstance(inner, dict):
            there = isinstance(content, dict) and step in content
            if there:
                del content[step]
            return there
        content = inner
    return False


def _plain(node: Any) -> Any:
    if isinstance(node, CommentedMap):
        return {str(key): _plain(value) for key, value in node.items()}
    if isinstance(node, CommentedSeq):
        return [_plain(value) for value in node]
    for kind in (bool, int, float, str):
        if isinstance(node, kind):
            return kind(node)
    return node
