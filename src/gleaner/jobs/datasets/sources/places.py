"""URLs that rows come from or go to: parsed, and compared part by part with the places an operator allows.

Nothing is compared as text: `https://shop.example` allows neither `https://shop.example.evil/` nor
`https://shop.example:8443/`, and a parameter cannot name another host than the URL does.
"""

from __future__ import annotations

import os
import re
from dataclasses import dataclass, field
from ipaddress import IPv4Network, IPv6Network, ip_address, ip_network
from typing import Literal
from urllib.parse import parse_qsl, unquote, urlsplit, urlunsplit

from gleaner.core.errors import DataError

SECRET = re.compile(r"\$\{(GLEANER_(SOURCE|TARGET)_\w+)\}")
PORTS = {"http": 80, "https": 443, "postgresql": 5432}
SCHEMES = frozenset({"file", "http", "https", "postgresql", "s3", "gs", "gcs", "az", "abfs", "abfss", "memory"})
"""Schemes of URLs: this machine's files, the web, databases, and object stores of whoever installed their package.

Others of fsspec's, such as ftp, sftp, smb or jar, reach machines without our look at their addresses.
"""

DATABASE_PARAMETERS = {
    "sslmode": ("require", "verify-ca", "verify-full"),
    "application_name": None,
}
"""What the URL of a database may say beside its place: nothing that names another host, a file, or a weaker
connection."""

Purpose = Literal["SOURCE", "TARGET"]
Network = IPv4Network | IPv6Network


@dataclass(frozen=True)
class UrlPlace:
    """A URL in its parts. host: in lower case, empty for local files. user and password: as they stand, with
    ${...} in them. segments: of the path, decoded."""

    url: str
    scheme: str
    host: str
    port: int | None
    user: str | None
    password: str | None
    segments: tuple[str, ...]
    query: tuple[tuple[str, str], ...] = ()

    @property
    def is_database(self) -> bool:
        """Whether it names a database."""
        return self.scheme == "postgresql"

    @property
    def is_local(self) -> bool:
        """Whether it names a file of this machine."""
        return self.scheme == "file"

    @property
    def shown(self) -> str:
        """The URL as it may be shown and kept."""
        return without_secrets(self.url)

    def covers(self, other: UrlPlace) -> bool:
        """Whether another place lies under this one: the same scheme, host and port, and a path that goes on from this
        one's, segment by segment."""
        same = (self.scheme, self.host, self.port) == (other.scheme, other.host, other.port)
        mine = self.user is None or (self.user, self.password) == (other.user, other.password)
        return same and mine and other.segments[: len(self.segments)] == self.segments


def without_secrets(url: str) -> str:
    """The URL as it may be shown and kept: without a password and without query parameters, which may sign it."""
    if "://" not in url:
        return url
    parts = urlsplit(url)
    host = parts.netloc.rpartition("@")[2]
    return urlunsplit((parts.scheme, f"{parts.username}@{host}" if parts.username else host, parts.path, "", ""))


def place_of(url: str) -> UrlPlace:
    """The parts of a URL or of a local path. Raises DataError for one that could mean different things to different
    readers."""
    if any(ord(sign) < 33 for sign in url) or "\\" in url:
        raise DataError("a URL holds no blanks, control characters or backslashes", where="url")
    if "://" not in url and not url.startswith("/"):
        # it would mean another place to each process that reads it
        raise DataError(f"{url[:200]!r} names no place: a path begins with /, and a URL with its scheme", where="url")
    if "::" in url.partition("[")[0]:
        raise DataError("a URL names one place, and not a chain of them", where="url")
    try:
        parts = urlsplit(url if "://" in url else f"file://{os.path.normpath(url)}")
        port = parts.port
    except ValueError as error:
        raise DataError(f"{without_secrets(url[:200])} is no URL: {error}", where="url") from None
    scheme = "postgresql" if parts.scheme == "postgres" else parts.scheme.lower()
    host = (parts.hostname or "").rstrip(".")
    if scheme in PORTS and (not host or "," in host or "%" in host or not host.isascii()):
        raise DataError(f"{without_secrets(url[:200])} must name one host, in ASCII", where="url")
    if scheme not in SCHEMES:
        raise DataError(f"{scheme[:40]!r} URLs are not taken; taken are {', '.join(sorted(SCHEMES))}", where="url")
    segments = tuple(unquote(part) for part in parts.path.split("/") if part)
    if any(part in (".", "..") or "/" in part or "\0" in part for part in segments):
        raise DataError(f"{without_secrets(url[:200])} has a path with `.`, `..` or an encoded slash", where="url")
    query = tuple(parse_qsl(parts.query, keep_blank_values=True))
    place = UrlPlace(
        url, scheme, host, port or PORTS.get(scheme), parts.username, parts.password, segments, query
    )  # fmt: skip
    if place.is_database:
        _require_plain_database(place)
    return place


def _require_plain_database(place: UrlPlace) -> None:
    for name, value in place.query:
        allowed = DATABASE_PARAMETERS.get(name, ())
        if allowed is not None and value not in allowed:
            has = ", ".join(f"{each}={'|'.join(values or ('...',))}" for each, values in DATABASE_PARAMETERS.items())
            raise DataError(f"{place.shown}: a database's URL may say {has}, and not {name}={value!r}", where=name)
    if len(place.segments) > 1 or any(sign in "".join(place.segments) for sign in "=:'"):
        raise DataError(f"{place.shown} must name one database", where="url")


@dataclass(frozen=True)
class AllowedPlaces:
    """What an operator allows, from GLEANER_SOURCES or GLEANER_TARGETS: places, and networks of private addresses that
    such places may be found at."""

    purpose: Purpose
    places: tuple[UrlPlace, ...] = ()
    networks: tuple[Network, ...] = field(default=())

    @classmethod
    def read(cls, text: str, purpose: Purpose) -> AllowedPlaces:
        """From the setting: URLs and networks, separated by blanks. Raises DataError for what is neither."""
        places, networks = [], []
        for each in text.split():
            try:
                networks.append(ip_network(each, strict=False))
            except ValueError:
                places.append(place_of(each))
        return cls(purpose, tuple(places), tuple(networks))

    @property
    def setting(self) -> str:
        """The setting it was read from."""
        return f"GLEANER_{self.purpose}S"

    def covers(self, place: UrlPlace) -> bool:
        """Whether a place lies under one that is allowed."""
        return any(each.covers(place) for each in self.places)

    def with_secrets(self, place: UrlPlace) -> UrlPlace:
        """The place with ${GLEANER_SOURCE_...} or ${GLEANER_TARGET_...} replaced from the worker's environment, so that
        no password needs to be sent or kept. Each belongs to the place of the setting that names it, and goes nowhere
        else, whoever asks.

        Raises DataError for one that does not belong here, or is not set.
        """
        names = {match[1]: match[2] for match in SECRET.finditer(place.url)}
        for name, purpose in names.items():
            if purpose != self.purpose:
                raise DataError(f"{name} is not for this: here it is GLEANER_{self.purpose}_...", where=name)
            if not any(f"${{{name}}}" in each.url and self._stands_alike(name, each, place) for each in self.places):
                raise DataError(
                    f"{name} goes only to the place of {self.setting} that names it, at the same part of the URL; "
                    f"{place.shown} is not under one that does",
                    where=name,
                )
            if name not in os.environ:
                raise DataError(f"{name} is not set where the worker runs", where=name)
        if not names:
            return place

        def filled(text: str) -> str:
            return SECRET.sub(lambda match: os.environ[match[1]], text)

        return UrlPlace(
            SECRET.sub("***", place.url), place.scheme, place.host, place.port,
            None if place.user is None else filled(place.user),
            None if place.password is None else filled(place.password),
            place.segments, tuple((key, filled(value)) for key, value in place.query),
        )  # fmt: skip

    def _stands_alike(self, name: str, allowed: UrlPlace, place: UrlPlace) -> bool:
        """Whether a secret stands in a place where the allowed one has it: as the user, the password, or the value of
        the same parameter."""
        text = f"${{{name}}}"
        if not allowed.covers(place) or text in "".join(place.segments) or text in place.host:
            return False
        pairs = [(each, value) for each, value in place.query if text in value]
        who = [part for part in (place.user, place.password) if part is not None and text in part]
        return all(pair in allowed.query for pair in pairs) and (
            not who or (place.user, place.password) == (allowed.user, allowed.password)
        )

    def require_address(self, place: UrlPlace, address: str, *, anywhere: bool) -> None:
        """Raise DataError for a place that was found at an address of a private network, unless the operator listed the
        network, or the address itself as the host. anywhere: the caller may read any URL; then only link-local
        addresses, which hold the secrets of machines, must be listed."""
        addresses = ip_address(address.partition("%")[0])
        addresses = getattr(addresses, "ipv4_mapped", None) or addresses
        guarded = addresses.is_link_local if anywhere else not addresses.is_global
        if not guarded or any(addresses in network for network in self.networks):
            return
        if any(_is_literally(each.host, address) and each.covers(place) for each in self.places):
            return
        raise DataError(
            f"{place.host} is at {address}, which is no public address; an operator can list its network in "
            f"{self.setting}",
            where="url",
        )


def _is_literally(host: str, address: str) -> bool:
    """Whether a host is written as the address, or as the name of this machine."""
    if host == "localhost":
        return ip_address(address).is_loopback
    try:
        return ip_address(host) == ip_address(address)
    except ValueError:
        return False
