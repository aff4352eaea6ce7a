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
from gleaner.jobs.datasets.sources.fetch import CallerReach
from gleaner.jobs.datasets.sources.places import AllowedPlaces, place_of
from gleaner.service.http.problems import AccessDeniedError, TooLargeError, UnavailableError
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
        else:
            _require_reach(
                source.url or "", place, CallerReach(AllowedPlaces.read(settings.sources, "SOURCE"), may_read_any_url)
            )


def require_targets(settings: Settings, urls: dict[str, str], *, may_write_anywhere: bool) -> None:
    """Raise DeniedError for a URL that this caller may not have written to. urls: by field."""
    for place, url in urls.items():
        _require_reach(url, place, CallerReach(AllowedPlaces.read(settings.targets, "TARGET"), may_write_anywhere))


def _require_reach(url: str, field: str, reach: CallerReach) -> None:
    """Raise DeniedError for a URL that may not be reached, InputError for one that is none."""
    try:
        place = place_of(url)
    except InputError as error:
        raise InputError(f"{field}: {error.message}", where=field) from None
    if not reach.anywhere and not reach.allowed.covers(place):
        doing = "reading" if reach.allowed.purpose == "SOURCE" else "writing to"
        setting = reach.allowed.setting
        text = f"{field}: {doing} {place.shown} needs a key with the scope admin, or a place in {setting}"
        raise AccessDeniedError(text, 403)
