"""Taking files in: streamed to disk, bounded, whole or not at all."""

from __future__ import annotations

import errno
import hashlib
import os
import re
import secrets
from collections.abc import AsyncIterator
from typing import Any

from anyio import to_thread

from gleaner.core.errors import InputError
from gleaner.jobs.sources.fetch import without_secrets
from gleaner.service.problems import DeniedError, TooLargeError, UnavailableError
from gleaner.settings import Settings
from gleaner.wire.datasets import Upload
from gleaner.wire.imports import Source

WRITE_BYTES = 1 << 20
UPLOAD_NAME = re.compile(r"u-[0-9a-f]{16}")
BODY: dict[str, Any] = {
    "requestBody": {
        "required": True,
        "content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}},
    }
}


async def receive(stream: AsyncIterator[bytes], file: str, settings: Settings) -> Upload:
    """Write a body to the uploads folder. Raises TooLargeError beyond the limit, UnavailableError on a full disk."""
    name = f"u-{secrets.token_hex(8)}"
    place = settings.uploads / name
    beside = place.with_suffix(".part")
    digest, size, waiting = hashlib.sha256(), 0, bytearray()
    try:
        with beside.open("wb") as out:
            async for chunk in stream:
                size += len(chunk)
                if size > settings.max_upload_bytes:
                    raise TooLargeError(f"{file} is larger than {settings.max_upload_bytes:,} bytes")
                digest.update(chunk)
                waiting += chunk
                if len(waiting) >= WRITE_BYTES:
                    await to_thread.run_sync(out.write, bytes(waiting))
                    waiting.clear()
            out.write(waiting)
            out.flush()
            await to_thread.run_sync(os.fsync, out.fileno())
        beside.rename(place)
    except OSError as error:
        if error.errno == errno.ENOSPC:
            raise UnavailableError(f"the disk is full: {file} was not kept") from error
        raise
    finally:
        beside.unlink(missing_ok=True)
    return Upload(upload=name, file=file, bytes=size, sha256=digest.hexdigest())


def require(settings: Settings, sources: dict[str, Source], *, may_read_any_url: bool) -> None:
    """Raise InputError unless every upload named is there, DeniedError for a URL that this caller may not have read."""
    for place, source in sources.items():
        if source.upload is not None:
            if not UPLOAD_NAME.fullmatch(source.upload) or not (settings.uploads / source.upload).exists():
                raise InputError(
                    f"there is no upload {source.upload!r}; send the file to /v1/uploads first", where=f"{place}.upload"
                )
        elif not may_read_any_url and not _allowed(source.url or "", settings.sources.split()):
            raise DeniedError(
                f"{place}: reading {without_secrets(source.url or '')} needs a key with the scope admin, or a prefix "
                "in GLEANER_SOURCES",
                403,
            )


def require_targets(settings: Settings, urls: dict[str, str], *, may_write_anywhere: bool) -> None:
    """Raise DeniedError for a URL that this caller may not have written to. urls: by field."""
    for place, url in urls.items():
        if not may_write_anywhere and not _allowed(url, settings.targets.split()):
            shown = without_secrets(url) if "://" in url else url
            text = f"{place}: writing to {shown} needs a key with the scope admin, or a prefix in GLEANER_TARGETS"
            raise DeniedError(text, 403)


def _allowed(url: str, prefixes: list[str]) -> bool:
    plain = ".." not in url and "%2e" not in url.lower()
    return plain and any(url.startswith(prefix) for prefix in prefixes)
