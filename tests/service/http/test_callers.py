"""Where a call comes from: through a proxy, from a page of another site, from this machine."""

from __future__ import annotations

from collections.abc import Iterator

import httpx
import pytest
from starlette.requests import Request

from gleaner.service.http.callers import FORWARDING, address_of, is_secure
from gleaner.settings import Settings
from gleaner.store import keys
from gleaner.store.database.engine import make_engine
from gleaner.wire.keys import SESSION_COOKIE, KeyRequest, Scope
from stack import Stack

LIST = "/v1/shelves/for-growers/recommendations?user=g-0417&n=1"


@pytest.mark.parametrize("header", FORWARDING)
@pytest.mark.parametrize("path", [LIST, "/v1/jobs", "/v1/keys"])
def test_what_a_proxy_passed_on_needs_a_key(demo, header, path):
    assert demo.http.get(path).status_code == 200
    answer = demo.http.get(path, headers={header: "203.0.113.9"})
    assert answer.status_code == 401
    assert f"came through a proxy (it has the header {header})" in answer.json()["detail"]


@pytest.mark.parametrize("path", [LIST, "/v1/jobs"])
@pytest.mark.parametrize(
    ("site", "status"), [("cross-site", 403), ("same-site", 403), ("same-origin", 200), ("none", 200)]
)
def test_a_page_of_another_site_reads_nothing(demo, path, site, status):
    assert demo.http.get(path, headers={"Sec-Fetch-Site": site}).status_code == status


@pytest.fixture(scope="module")
def behind() -> Iterator[tuple[Stack, str]]:
    """A Gleaner behind a proxy on this machine, and a key that may do everything."""
    stack = Stack(trusted_proxies="127.0.0.1 10.0.0.0/8")
    engine = make_engine(stack.database_url)
    with engine.begin() as connection:
        key = keys.create(connection, KeyRequest(name="first", scopes=[Scope.ADMIN]))
    engine.dispose()
    yield stack, key.secret
    stack.stop()


def test_behind_a_trusted_proxy_keys_are_needed_and_the_callers_address_is_put_down(behind):
    stack, secret = behind
    assert httpx.get(f"{stack.url}/v1/jobs").status_code == 401
    mine = {"Authorization": f"Bearer {secret}", "X-Forwarded-For": "198.51.100.7, 203.0.113.9, 10.1.2.3"}
    response = httpx.post(f"{stack.url}/v1/keys", json={"name": "shop", "scopes": ["serve"]}, headers=mine)
    assert response.status_code == 201
    [last] = httpx.get(f"{stack.url}/v1/audit?limit=1", headers=mine).json()["items"]
    assert (last["key"], last["path"], last["address"]) == ("first", "/v1/keys", "203.0.113.9")


@pytest.mark.parametrize(("proto", "secure"), [("https", True), ("http", False), ("https, http", False)])
def test_a_cookie_is_for_encrypted_connections_where_the_caller_has_one(behind, proto, secure):
    stack, secret = behind
    answer = httpx.post(f"{stack.url}/v1/session", json={"key": secret}, headers={"X-Forwarded-Proto": proto})
    assert answer.headers["set-cookie"].startswith(SESSION_COOKIE)
    assert ("Secure" in answer.headers["set-cookie"]) == secure


def request(peer: str, **headers: str) -> Request:
    raw = [(name.replace("_", "-").encode(), value.encode()) for name, value in headers.items()]
    return Request(
        {"type": "http", "scheme": "http", "path": "/", "headers": raw, "client": (peer, 1), "server": ("x", 80)}
    )


@pytest.mark.parametrize(
    ("peer", "chain", "address"),
    [
        ("203.0.113.9", "1.2.3.4", "203.0.113.9"),
        ("10.0.0.1", "1.2.3.4", "1.2.3.4"),
        ("10.0.0.1", "6.6.6.6, 1.2.3.4, 10.0.0.2", "1.2.3.4"),
        ("10.0.0.1", "1.2.3.4:443", "1.2.3.4"),
        ("10.0.0.1", "[2001:db8::1]:443", "2001:db8::1"),
        ("10.0.0.1", "junk", "junk"),
        ("10.0.0.1", "", "10.0.0.1"),
    ],
)
def test_only_a_trusted_proxy_is_believed(tmp_path, peer, chain, address):
    settings = Settings(home=tmp_path, trusted_proxies="10.0.0.0/8")
    assert address_of(request(peer, x_forwarded_for=chain), settings) == address
    assert is_secure(request(peer, x_forwarded_proto="https"), settings) == peer.startswith("10.")


def test_a_wrong_network_is_refused_at_the_start(tmp_path):
    with pytest.raises(ValueError, match="does not appear to be an IPv4 or IPv6 network"):
        Settings(home=tmp_path, trusted_proxies="proxy.example")
