"""Names with numbers, such as seeds@3 or als@12: read in one place."""

from __future__ import annotations

from gleaner.core.errors import InputError

MOST_DIGITS = 9


def split_name(reference: str, what: str) -> tuple[str, int | None]:
    """("seeds", 3) of "seeds@3", ("seeds", None) of "seeds". Raises InputError on anything else."""
    name, at, number = reference.partition("@")
    if not name or (at and not _is_number(number)):
        raise InputError(
            f"{reference!r} does not name a {what}; write a name, or a name and a number as in {name or 'name'}@1"
        )
    return name, int(number) if at else None


def plain_name(reference: str) -> str:
    """The name without its number: "seeds" of "seeds@3"."""
    return reference.partition("@")[0]


def _is_number(text: str) -> bool:
    return text.isascii() and text.isdigit() and len(text) <= MOST_DIGITS and int(text) > 0
