"""Files by URL: copied into the job's folder through fsspec, within a size."""

from __future__ import annotations

import os
import re
from collections.abc import Callable
from pathlib import Path
from typing import Literal
from urllib.parse import urlsplit, urlunsplit

import fsspec

from gleaner.core.errors import DataError

CHUNK = 4 << 20
SECRET = re.compile(r"\$\{(GLEANER_(SOURCE|TARGET)_\w+)\}")


def without_secrets(url: str) -> str:
    """The URL as it may be shown and kept: without a password and without query parameters, which may sign it."""
    parts = urlsplit(url)
    host = parts.netloc.rpartition("@")[2]
    user = parts.username
    return urlunsplit((parts.scheme, f"{user}@{host}" if user else host, parts.path, "", ""))


def with_secrets(url: str, purpose: Literal["SOURCE", "TARGET"] = "SOURCE") -> str:
    """Replace ${GLEANER_SOURCE_...}, or ${GLEANER_TARGET_...}, from the worker's environment, so that no password needs
    to be sent or kept. What is meant for reading is not put into places to write to, nor the other way round."""

    def value(found: re.Match[str]) -> str:
        if found[2] != purpose:
            raise DataError(f"{found[1]} is not for this: here it is GLEANER_{purpose}_...", where=found[1])
        if found[1] not in os.environ:
            raise DataError(f"{found[1]} is not set where the worker runs", where=found[1])
        return os.environ[found[1]]

    return SECRET.sub(value, url)


def fetch(url: str, name: str, out: Path, max_bytes: int, on_share: Callable[[float], None]) -> None:
    """Copy the bytes behind a URL. Raises DataError when they are not there, too many, or cannot be read."""
    shown = without_secrets(url)
    try:
        with fsspec.open(with_secrets(url), "rb") as source, out.open("wb") as file:
            total = getattr(source, "size", None)
            size = 0
            while chunk := source.read(CHUNK):
                size += len(chunk)
                if size > max_bytes:
                    raise DataError(f"{shown} is larger than {max_bytes:,} bytes", where=name)
                file.write(chunk)
                on_share(size / total if total else 0.0)
    except DataError:
        raise
    except FileNotFoundError as error:
        raise DataError(f"there is nothing at {shown}", where=name) from error
    except (ImportError, ValueError) as error:
        raise DataError(f"{shown} cannot be opened: {error}", where=name) from error
    except Exception as error:  # every file system has errors of its own
        raise DataError(f"{shown} cannot be read: {type(error).__name__}: {error}", where=name) from error
