"""Files by URL: copied into the job's folder, within a size, from where the caller may read and from nowhere else.

Names are looked up once, and the connection goes to the address that was looked at. Redirects are followed by hand:
each leads to a place that is looked at as the first was.
"""

from __future__ import annotations

import os
import socket
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any
from urllib.parse import urljoin, urlsplit, urlunsplit

import fsspec
import httpx

from gleaner.core.errors import DataError
from gleaner.jobs.datasets.sources.places import AllowedPlaces, UrlPlace, place_of

CHUNK = 4 << 20
MOST_REDIRECTS = 5
CONNECT_S, READ_S = 10.0, 60.0


@dataclass(frozen=True)
class CallerReach:
    """Where one caller may read or write. anywhere: with a key of the scope admin, or none where none is needed."""

    allowed: AllowedPlaces
    anywhere: bool = False

    def require(self, place: UrlPlace) -> None:
        """Raise DataError for a place that this caller may not reach."""
        if self.anywhere or self.allowed.covers(place):
            if place.is_local and not self.anywhere:
                self._require_real(place)
            return
        raise DataError(f"{place.shown} is not under a place of {self.allowed.setting}", where="url")

    def _require_real(self, place: UrlPlace) -> None:
        """A link must not lead out of the folder that is allowed."""
        real = place_of(os.path.realpath("/" + "/".join(place.segments)))
        for each in self.allowed.places:
            if each.is_local and place_of(os.path.realpath("/" + "/".join(each.segments))).covers(real):
                return
        raise DataError(f"{place.shown} leads out of the places of {self.allowed.setting}", where="url")

    def addresses_of(self, place: UrlPlace) -> list[str]:
        """The addresses of the place's host. Raises DataError where there is none, or one that may not be reached."""
        try:
            answers = socket.getaddrinfo(place.host, place.port, type=socket.SOCK_STREAM)
        except OSError as error:
            raise DataError(f"{place.shown} cannot be reached: {error.strerror or error}", where="url") from error
        addresses = list(dict.fromkeys(str(each[4][0]) for each in answers))
        for address in addresses:
            self.allowed.require_address(place, address, anywhere=self.anywhere)
        return addresses


def fetch(
    url: str, name: str, out: Path, max_bytes: int, on_share: Callable[[float], None], reach: CallerReach
) -> None:
    """Copy the bytes behind a URL. Raises DataError when they are not there, too many, or may not or cannot be read."""
    place = place_of(url)
    shown = place.shown
    try:
        with _opened(place, reach) as (chunks, total), out.open("wb") as file:
            size = 0
            for chunk in chunks:
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


@contextmanager
def _opened(place: UrlPlace, reach: CallerReach) -> Iterator[tuple[Iterator[bytes], int | None]]:
    """The bytes in pieces, and how many there are where that is known."""
    reach.require(place)
    if place.scheme in ("http", "https"):
        with _answered(place, reach) as response:
            length = response.headers.get("content-length", "")
            yield response.iter_raw(CHUNK), int(length) if length.isdigit() else None
        return
    filled = reach.allowed.with_secrets(place)
    path = "/" + "/".join(filled.segments) if filled.is_local else place.url
    if filled is not place and not filled.is_local:
        raise DataError(f"{place.shown}: secrets go into http, https and postgresql URLs only", where="url")
    with fsspec.open(path, "rb") as source:
        yield _pieces(source), getattr(source, "size", None)


def _pieces(source: IO[bytes] | Any) -> Iterator[bytes]:
    while chunk := source.read(CHUNK):
        yield chunk


@contextmanager
def _answered(place: UrlPlace, reach: CallerReach) -> Iterator[httpx.Response]:
    """The answer to a GET at the end of all redirects."""
    for _ in range(MOST_REDIRECTS + 1):
        with _response_of(reach.allowed.with_secrets(place), reach.addresses_of(place)) as response:
            if not response.is_redirect:
                if response.status_code == 404:
                    raise FileNotFoundError
                if response.status_code != 200:
                    raise DataError(f"{place.shown} answers {response.status_code}", where="url")
                yield response
                return
            target = urljoin(_plain_url(place), response.headers["location"])
        place = place_of(target)
        if place.scheme not in ("http", "https"):
            raise DataError(f"a redirect leads to {place.shown}, which is no web address", where="url")
        reach.require(place)
    raise DataError(f"{place.shown} was redirected more than {MOST_REDIRECTS} times", where="url")


@contextmanager
def _response_of(place: UrlPlace, addresses: list[str]) -> Iterator[httpx.Response]:
    """A GET that goes to one of these addresses, whatever the name leads to by now."""
    url = httpx.URL(_plain_url(place))
    named = f"[{place.host}]" if ":" in place.host else place.host
    headers = {"Host": named if url.port is None else f"{named}:{url.port}", "Accept-Encoding": "identity"}
    login = None if place.user is None else httpx.BasicAuth(place.user, place.password or "")
    timeout = httpx.Timeout(READ_S, connect=CONNECT_S)
    with httpx.Client(trust_env=False, timeout=timeout, follow_redirects=False) as client:
        for last, address in enumerate(addresses, 1 - len(addresses)):
            to = url.copy_with(host=address, params=list(place.query) or None)
            request = client.build_request("GET", to, headers=headers, extensions={"sni_hostname": place.host})
            try:
                response = client.send(request, stream=True, auth=login)
                break
            except httpx.ConnectError:
                if last == 0:
                    raise
        try:
            yield response
        finally:
            response.close()


def _plain_url(place: UrlPlace) -> str:
    """The URL without who asks and without parameters."""
    parts = urlsplit(place.url)
    return urlunsplit((parts.scheme, parts.netloc.rpartition("@")[2], parts.path, "", ""))
