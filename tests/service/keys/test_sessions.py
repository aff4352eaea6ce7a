"""Signing in: a key for a cookie, which opens what the key opens, from pages of the service alone."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta

import httpx
import pytest

from gleaner.client import Client, calls, service_calls
from gleaner.service.keys.key_ring import WRONG_A_MINUTE
from gleaner.store.sessions import PREFIX
from gleaner.wire.keys import SESSION_COOKIE, KeyRequest, Scope
from stack import Stack


@pytest.fixture(scope="module")
def locked() -> Iterator[tuple[Stack, Client]]:
    """A Gleaner that needs keys, and its first key's client: made in the store, as nobody could ask for it."""
    from gleaner.store import keys
    from gleaner.store.database.engine import make_engine

    stack = Stack(auth="required")
    engine = make_engine(stack.database_url)
    with engine.begin() as connection:
        key = keys.create(connection, KeyRequest(name="first", scopes=[Scope.ADMIN]))
    engine.dispose()
    with Client(stack.url, key.secret) as client:
        yield stack, client
    stack.stop()


def key(client: Client, name: str, *scopes: Scope) -> str:
    return client.send(service_calls.create_key(KeyRequest(name=name, scopes=list(scopes)))).secret


def signed_in(stack: Stack, secret: str) -> httpx.Client:
    browser = httpx.Client(base_url=stack.url)
    answer = browser.post("/v1/session", json={"key": secret}, headers={"Origin": stack.url})
    assert answer.status_code == 204
    return browser


def test_nothing_is_reachable_without_a_key_but_health(locked):
    stack, _ = locked
    document = Client(stack.url, locked[1]._http.headers["authorization"].split()[1])
    with document as admin:
        paths = admin._http.get("/openapi.json").json()["paths"]
    with httpx.Client(base_url=stack.url) as stranger:
        for path, methods in paths.items():
            for method in methods:
                place = path.replace("{number}", "1").replace("{job}", "1").replace("{side}", "items")
                status = stranger.request(method.upper(), place, json={}).status_code
                is_open = path in ("/healthz", "/readyz")
                is_sign_in = (method, path) == ("post", "/v1/session")
                assert (status == 200) if is_open else status == (422 if is_sign_in else 401), (
                    f"{method} {path}: {status}"
                )
        assert stranger.get("/metrics").status_code == 401
        assert stranger.get("/openapi.json").status_code == 401


def test_a_session_opens_what_its_key_opens_until_it_signs_out(locked):
    stack, client = locked
    secret = key(client, "reader", Scope.SERVE)
    browser = signed_in(stack, secret)
    cookie = next(each for each in browser.cookies.jar if each.name == SESSION_COOKIE)
    assert cookie.has_nonstandard_attr("HttpOnly")
    assert cookie.get_nonstandard_attr("SameSite") == "strict"
    assert cookie.value.startswith(PREFIX)
    assert secret not in cookie.value
    assert stack.sql("SELECT 1 FROM sessions WHERE token_sha256 = %s", cookie.value) == []
    assert browser.get("/v1/session").json()["key"] == "reader"
    assert browser.get("/v1/shelves").status_code == 200
    assert browser.get("/v1/jobs").status_code == 403
    token = cookie.value
    assert browser.delete("/v1/session", headers={"Origin": stack.url}).status_code == 204
    assert SESSION_COOKIE not in browser.cookies
    browser.cookies.set(SESSION_COOKIE, token)
    answer = browser.get("/v1/shelves")
    assert (answer.status_code, answer.json()["detail"]) == (401, "this session is over, or its key was revoked")
    browser.close()


def test_a_session_ends_with_its_key_and_with_its_time(locked):
    stack, client = locked
    browser = signed_in(stack, key(client, "leaver", Scope.BUILD))
    other = signed_in(stack, key(client, "sleeper", Scope.BUILD))
    assert browser.get("/v1/jobs").status_code == other.get("/v1/jobs").status_code == 200
    client.send(calls.revoke_key("leaver"))
    assert browser.get("/v1/jobs").status_code == 401
    assert other.get("/v1/jobs").status_code == 200
    stack.sql("UPDATE sessions SET ends_at = now() - interval '1 minute'")
    client.send(calls.revoke_key("leaver"))
    answer = other.get("/v1/jobs")
    assert answer.status_code == 401
    assert "the session of 'sleeper' ended on" in answer.json()["detail"]
    browser.close()
    other.close()


def test_a_page_of_another_site_writes_nothing(locked):
    stack, client = locked
    secret = key(client, "builder", Scope.BUILD)
    browser = signed_in(stack, secret)
    for headers in ({"Origin": "http://elsewhere.example"}, {"Sec-Fetch-Site": "cross-site"}):
        answer = browser.post("/v1/jobs/1/cancel", headers=headers)
        assert (answer.status_code, "may not write here" in answer.json()["detail"]) == (403, True)
        assert browser.post("/v1/session", json={"key": secret}, headers=headers).status_code == 403
    assert browser.post("/v1/jobs/1/cancel", headers={"Origin": stack.url}).status_code == 404
    browser.close()


def test_a_wrong_key_is_refused_and_signing_in_is_put_down(locked):
    stack, client = locked
    answer = httpx.post(f"{stack.url}/v1/session", json={"key": "glk_wrong"})
    assert (answer.status_code, answer.json()["detail"]) == (401, "this key is unknown, has ended or was revoked")
    signed_in(stack, key(client, "noted", Scope.SERVE)).close()
    [last] = client.send(service_calls.list_writes("noted", limit=1)).items
    assert (last.key, last.method, last.path) == ("noted", "POST", "/v1/session")


def test_where_no_key_is_needed_an_old_cookie_is_nothing(demo):
    with httpx.Client(base_url=demo.url, cookies={SESSION_COOKIE: "gls_of-another-time"}) as browser:
        assert browser.get("/v1/session").json() == {"key": None, "scopes": [], "ends_at": None}
        assert browser.get("/v1/jobs").status_code == 200


def test_a_session_ends_with_the_secret_that_opened_it(locked):
    stack, client = locked
    browser = signed_in(stack, key(client, "turning", Scope.BUILD))
    client.send(service_calls.rotate_key("turning", 60))
    assert browser.get("/v1/jobs").status_code == 200
    ends = browser.get("/v1/session").json()["ends_at"]
    again = client.send(service_calls.rotate_key("turning", 0)).secret
    answer = browser.get("/v1/jobs")
    assert (answer.status_code, answer.json()["detail"]) == (401, "this session is over, or its key was revoked")
    # with grace it ended with the grace, an hour, and not after twelve
    assert datetime.fromisoformat(ends) - datetime.now(UTC) < timedelta(minutes=61)
    other = signed_in(stack, again)
    client.send(service_calls.rotate_key("turning", 0))
    assert other.get("/v1/jobs").status_code == 401
    browser.close()
    other.close()


def test_a_token_is_no_key_and_a_key_no_token(locked):
    stack, client = locked
    secret = key(client, "mixed", Scope.BUILD)
    browser = signed_in(stack, secret)
    token = browser.cookies[SESSION_COOKIE]
    answer = httpx.get(f"{stack.url}/v1/jobs", headers={"Authorization": f"Bearer {token}"})
    assert (answer.status_code, answer.json()["detail"]) == (401, "this key is unknown or was revoked")
    browser.cookies.set(SESSION_COOKIE, secret)
    assert httpx.get(f"{stack.url}/v1/jobs", cookies={SESSION_COOKIE: secret}).status_code == 401
    assert httpx.get(f"{stack.url}/v1/jobs", cookies={SESSION_COOKIE: token}).status_code == 200
    browser.close()


@pytest.mark.parametrize(("scope", "status"), [(Scope.SERVE, 403), (Scope.EVENTS, 403), (Scope.METRICS, 403)])
def test_only_who_builds_reads_about_people(locked, scope, status):
    stack, client = locked
    mine = {"Authorization": f"Bearer {key(client, f'no-{scope}', scope)}"}
    version = "/v1/datasets/seeds/versions/1"
    for path in (f"{version}/history?user=a", f"{version}/users", f"{version}/items/search", "/v1/shelves/any"):
        assert httpx.get(stack.url + path, headers=mine).status_code == status, path
    for path in ("/v1/session", "/openapi.json"):
        assert httpx.get(stack.url + path, headers=mine).status_code == 200, path
    assert httpx.get(f"{stack.url}/metrics", headers=mine).status_code == (200 if scope is Scope.METRICS else 403)
    assert httpx.delete(f"{stack.url}/v1/session", headers=mine).status_code == 204


def test_an_address_tries_only_so_many_unknown_keys(locked):
    stack, client = locked
    good = {"Authorization": f"Bearer {key(client, 'good', Scope.BUILD)}"}
    assert httpx.get(f"{stack.url}/v1/jobs", headers=good).status_code == 200
    with httpx.Client(base_url=stack.url) as guessing:
        # one more may be tried with every second that passes, so a slow machine gets a few through
        answers = []
        while 429 not in answers and len(answers) < 10 * WRONG_A_MINUTE:
            wrong = {"Authorization": f"Bearer glk_guess-{len(answers)}"}
            answers.append(guessing.get("/v1/jobs", headers=wrong).status_code)
        # tests before this one have tried some
        assert len(answers) > WRONG_A_MINUTE // 2
        assert answers == [401] * (len(answers) - 1) + [429]
        assert 429 in {guessing.post("/v1/session", json={"key": "glk_guess"}).status_code for _ in range(10)}
        # a key that is known goes on
        assert guessing.get("/v1/jobs", headers=good).status_code == 200
