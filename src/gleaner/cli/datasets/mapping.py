"""What `data add` imports: from options, from a mapping file, or from both, the options first."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from gleaner.wire.imports import ImportRequest

ROLES = ("user", "item", "value", "kind", "time")
PARTS = ("training", "validation", "test")
UNSENT = "u-0000000000000000"
"""Stands for a file that was not sent yet, so that a request is checked before gigabytes travel."""
UNKNOWN_ROLES = {"user": "user", "item": "item"}
"""Stand for roles that the service is yet to be asked for, so that all else is checked before."""


class Mapping:
    """A request as plain values, with local files still by their paths and, for a mapping file, its lines."""

    def __init__(self, path: Path | None) -> None:
        self.path = path
        self.tree: Any = {}
        if path is not None:
            self.tree = _read(path)
        plain = _plain(self.tree)
        if "roles" not in plain:
            # the short form: roles only
            roles = {key: plain.pop(key) for key in [*ROLES, "context"] if key in plain}
            plain |= {"roles": roles} if roles else {}
        self.request: dict[str, Any] = plain

    def files(self) -> dict[str, Path]:
        """Local files by their place in the request; paths in a mapping file are meant from its folder."""
        base = self.path.parent if self.path else Path()
        return {
            place: base / source["file"] if not source.get("_here") else Path(source["file"])
            for place, source in self.sources().items()
            if "file" in source and "url" not in source
        }

    def sources(self) -> dict[str, dict[str, Any]]:
        """Every source by its place."""
        by_place = {
            place: self.request[place] for place in ("interactions", "items", "users") if self.request.get(place)
        }
        by_place |= {f"parts.{name}": source for name, source in (self.request.get("parts") or {}).items() if source}
        by_place |= {f"tables.{name}": source for name, source in (self.request.get("tables") or {}).items() if source}
        return {place: source for place, source in by_place.items() if isinstance(source, dict)}

    def put(self, place: str, given: str) -> None:
        """Name a file or a URL on the command line."""
        if "://" in given:
            source: dict[str, Any] = {"url": given, "file": given.rpartition("/")[2].partition("?")[0] or place}
        else:
            if not Path(given).is_file():
                raise click.BadParameter(f"there is no file {given!r}", param_hint=place)
            source = {"file": given, "_here": True}
        target = self.request
        *outer, last = place.split(".")
        for key in outer:
            target = target.setdefault(key, {})
        target[last] = {k: v for k, v in (target.get(last) or {}).items() if k not in ("file", "url")} | source

    def roles(self, given: dict[str, Any]) -> None:
        """Roles of the command line, over those of the file."""
        self.request["roles"] = (self.request.get("roles") or {}) | given

    def complete(self, uploads: dict[str, str] | None = None, roles: dict[str, str] | None = None) -> ImportRequest:
        """The request with what was sent in the place of local files. roles: in the place of its own. Raises UsageError
        naming field and line."""
        from pydantic import ValidationError

        from gleaner.wire.imports import ImportRequest

        whole = _plain(self.request) | ({"roles": roles} if roles else {})
        for place, path in self.files().items():
            target: Any = whole
            for key in place.split("."):
                target = target[key]
            target.pop("_here", None)
            target |= {"file": path.name, "upload": (uploads or {}).get(place, UNSENT)}
        for source in Mapping._walk(whole):
            source.pop("_here", None)
        try:
            return ImportRequest.model_validate(whole)
        except ValidationError as error:
            raise click.UsageError("; ".join(self._sentence(each) for each in error.errors())) from error

    @staticmethod
    def _walk(whole: dict[str, Any]) -> list[dict[str, Any]]:
        nodes = [whole.get(place) for place in ("interactions", "items", "users")]
        nodes += list((whole.get("parts") or {}).values()) + list((whole.get("tables") or {}).values())
        return [each for each in nodes if isinstance(each, dict)]

    def _sentence(self, error: Any) -> str:
        from gleaner.wire.fields import sentence
        from gleaner.wire.imports import ImportRequest

        text = sentence(ImportRequest, error)
        path = ".".join(str(part) for part in error["loc"])
        if self.path is None:
            return f"{path}: {text}" if path and path != "roles" else text
        return f"{self.path.name}:{_line(self.tree, error['loc'])}: {path}: {text}"


def _read(path: Path) -> Any:
    from ruamel.yaml import YAML
    from ruamel.yaml.error import MarkedYAMLError, YAMLError

    try:
        tree = YAML(typ="rt").load(path.read_text(encoding="utf-8")) or {}
    except UnicodeDecodeError as error:
        raise click.BadParameter(f"{path} is not UTF-8 text", param_hint="--map") from error
    except MarkedYAMLError as error:
        line = error.problem_mark.line + 1 if error.problem_mark else 1
        raise click.UsageError(f"{path.name}:{line}: this is not YAML: {error.problem}") from error
    except YAMLError as error:
        raise click.UsageError(f"{path.name}: this is not YAML") from error
    if not isinstance(tree, dict):
        raise click.UsageError(f"{path.name} does not hold a mapping of fields")
    return tree


def _line(tree: Any, path: tuple[Any, ...]) -> int:
    """The line of a field, or of the nearest one around it."""
    line = 1
    for key in path:
        marks = getattr(getattr(tree, "lc", None), "data", None) or {}
        if key in marks:
            line = marks[key][0] + 1
        try:
            tree = tree[key]
        except (KeyError, IndexError, TypeError):
            break
    return line


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        return {str(key): _plain(each) for key, each in value.items()}
    if isinstance(value, list):
        return [_plain(each) for each in value]
    return value
