"""Where a call comes from: this machine, another one, or one behind a proxy.

What a proxy says of a caller counts only where the proxy is named in GLEANER_TRUSTED_PROXIES: anybody can send such
headers.
"""

from __future__ import annotations

from ipaddress import ip_address

from fastapi import Request

from gleaner.settings import Settings

FORWARDING = (
    "forwarded", "x-forwarded-for", "x-forwarded-host", "x-forwarded-proto", "x-forwarded-port", "x-forwarded-server",
    "x-real-ip", "x-client-ip", "true-client-ip", "via",
)  # fmt: skip
"""Headers that a proxy adds: a call that has one was not made by whom the connection comes from."""

FORWARDING_BYTES = frozenset(name.encode() for name in FORWARDING)


def forwarded_by(request: Request) -> str | None:
    """The first header that shows that a proxy passed the call on; None where there is none."""
    return next((name for name in FORWARDING if name in request.headers), None)


def address_of(request: Request, settings: Settings) -> str:
    """The caller's address: the connection's, or behind a trusted proxy the last one that no trusted proxy has."""
    peer = request.client.host if request.client else ""
    chain = [part.strip() for part in request.headers.get("x-forwarded-for", "").split(",") if part.strip()]
    while chain and is_trusted(peer, settings):
        peer = _plain(chain.pop())
    return peer


def is_secure(request: Request, settings: Settings) -> bool:
    """Whether the caller's own connection is encrypted, as the service or a trusted proxy knows."""
    if request.url.scheme == "https":
        return True
    peer = request.client.host if request.client else ""
    scheme = request.headers.get("x-forwarded-proto", "").rpartition(",")[2].strip().lower()
    return scheme == "https" and is_trusted(peer, settings)


def is_trusted(address: str, settings: Settings) -> bool:
    """Whether a proxy at this address may say whom it speaks for."""
    try:
        ip = ip_address(address)
    except ValueError:
        return False
    return any(ip in network for network in settings.proxies)


def _plain(address: str) -> str:
    """An address without the port that some proxies add; as it is where it is none."""
    for text in (address, address.rpartition(":")[0], address.strip("[]"), address.partition("]")[0].strip("[")):
        try:
            return str(ip_address(text))
        except ValueError:
            continue
    return address[:100]
