"""Keys: rotated, ended, limited, held while the database is away; and every write put down with the key that made it."""

from __future__ import annotations

import time
from collections.abc import Callable
from types import SimpleNamespace

import pytest
from fastapi.routing import APIRoute

from gleaner.client import Client, DeniedError, RefusedError, calls, event_calls, service_calls, shelf_calls
from gleaner.service.http.app import ROUTERS
from gleaner.service.http.problems import AccessDeniedError as Denied
from gleaner.service.http.problems import TooManyError
from gleaner.service.keys import key_ring
from gleaner.service.keys.auditing import OUT_OF_BOOKS, READING
from gleaner.service.keys.key_ring import Credential, KeyRing, TokenBucket
from gleaner.store.database.engine import make_engine
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.events import Change
from gleaner.wire.keys import KeyRequest, Scope
from stack import Stack, wait_for


def make(demo: Stack, name: str, *scopes: Scope, **more) -> str:
    request = KeyRequest(name=name, scopes=list(scopes), **more)
    return demo.client.send(service_calls.create_key(request)).secret


def opens(demo: Stack, secret: str) -> bool:
    answer = demo.http.get("/v1/shelves", headers={"Authorization": f"Bearer {secret}"})
    assert answer.status_code in (200, 401)
    return answer.status_code == 200


def test_a_rotated_key_has_a_new_secret_and_the_one_before_for_a_while(demo):
    first = make(demo, "rotated", Scope.SERVE)
    assert opens(demo, first)
    second = demo.client.send(service_calls.rotate_key("rotated", 60))
    assert second.previous_until is not None
    assert (opens(demo, first), opens(demo, second.secret)) == (True, True)
    third = demo.client.send(service_calls.rotate_key("rotated", 0)).secret
    assert [opens(demo, each) for each in (first, second.secret, third)] == [False, False, True]
    demo.client.send(calls.revoke_key("rotated"))
    assert not opens(demo, third)
    with pytest.raises(RefusedError, match="was revoked; make another"):
        demo.client.send(service_calls.rotate_key("rotated"))
    [kept] = demo.sql("SELECT secret_sha256, previous_sha256 FROM keys WHERE name = 'rotated'")
    assert not {first, second.secret, third} & set(kept)


def test_a_key_ends_after_its_days(demo):
    secret = make(demo, "brief", Scope.SERVE, days=2 / 86_400)
    assert opens(demo, secret)
    wait_for(lambda: not opens(demo, secret))
    answer = demo.http.get("/v1/shelves", headers={"Authorization": f"Bearer {secret}"})
    assert "the key 'brief' ended on" in answer.json()["detail"]


@pytest.mark.parametrize("path", ["/v1/shelves/for-growers/recommendations?user=g-0417&n=3", "/v1/shelves"])
def test_a_key_makes_so_many_calls_a_minute(demo, path):
    name = f"limited-{path.count('?')}"
    mine = {"Authorization": f"Bearer {make(demo, name, Scope.SERVE, per_minute=3)}"}
    other = {"Authorization": f"Bearer {make(demo, name + '-other', Scope.SERVE, per_minute=3)}"}
    demo.http.get("/v1/shelves/for-growers/recommendations")
    answers = [demo.http.get(path, headers=mine) for _ in range(5)]
    assert [each.status_code for each in answers] == [200, 200, 200, 429, 429]
    assert answers[-1].json()["type"] == "urn:gleaner:problem:too-many"
    assert f"the key '{name}' may make 3 calls a minute" in answers[-1].json()["detail"]
    assert 1 <= int(answers[-1].headers["retry-after"]) <= 20
    assert demo.http.get(path, headers=other).status_code == 200


def test_a_bucket_fills_as_time_goes():
    bucket = TokenBucket(60, at=100.0)
    assert [bucket.take(100.0) for _ in range(60)] == [0.0] * 60
    assert bucket.take(100.0) == pytest.approx(1.0)
    assert bucket.take(100.5) == pytest.approx(0.5)
    assert bucket.take(101.0) == 0.0
    assert bucket.take(1e6) == 0.0
    assert bucket.left == 59


def test_a_key_that_was_good_goes_on_while_the_database_is_away(demo, monkeypatch):
    good = make(demo, "going-on", Scope.SERVE)
    engine = make_engine(demo.database_url)
    ring = KeyRing(engine)
    assert ring.find(Credential(good, is_session=False)).name == "going-on"
    monkeypatch.setattr(key_ring, "FRESH_S", 0.0)
    ring.engine = make_engine("postgresql://nobody@127.0.0.1:1/none")
    assert ring.find(Credential(good, is_session=False)).name == "going-on"
    with pytest.raises(Exception, match="connection"):
        ring.find(Credential("glk_never-seen", is_session=False))
    ring.engine = engine
    demo.client.send(calls.revoke_key("going-on"))
    with pytest.raises(Denied, match="unknown or was revoked"):
        ring.find(Credential(good, is_session=False))
    engine.dispose()


SHELF = "shelf: audited\ncandidates: [{model: first-look.als}]\nfallback: [{model: first-look.popular}]\n"


def written(demo: Stack, key: str | None = None) -> list[tuple[str | None, str, str]]:
    page = demo.client.send(service_calls.list_writes(key, limit=500)).items
    return [(each.key, each.method, each.path) for each in page]


def test_every_write_is_put_down_with_its_key_and_only_writes(demo):
    secret = make(demo, "writer", Scope.BUILD, Scope.EVENTS, Scope.SERVE)
    with Client(demo.url, secret) as writer:
        writer.send(shelf_calls.publish_shelf(FileRequest(file=SHELF)))
        writer.send(shelf_calls.check_shelf(FileRequest(file=SHELF)))
        writer.send(calls.recommend("audited", n=1))
        writer.send(event_calls.send_event("seeds", "audit-user", "v-0010", "view"))
        with pytest.raises(RefusedError):
            writer.send(shelf_calls.publish_shelf(FileRequest(file=SHELF + "where: stok > 0\n")))
        with pytest.raises(DeniedError):
            writer.send(calls.revoke_key("writer"))
        name = demo.client.send(calls.query("seeds", 1, "SELECT name FROM items WHERE id = 'v-0010'")).rows[0][0]
        writer.send(event_calls.change_items("seeds", [Change(id="v-0010", columns={"name": name})]))
    assert written(demo, "writer") == [
        ("writer", "POST", "/v1/datasets/seeds/items/changes"),
        ("writer", "POST", "/v1/shelves"),
    ]
    demo.client.send(calls.revoke_key("writer"))
    assert written(demo)[0] == (None, "POST", "/v1/keys/writer/revoke")
    output = demo.gleaner("key", "audit", "--by", "writer").stdout
    assert "POST /v1/shelves" in output
    assert len(demo.client.send(service_calls.list_writes(limit=1)).items) == 1
    # a write's row carries the id its answer had
    answer = demo.http.post("/v1/shelves", json={"file": SHELF})
    assert demo.client.send(service_calls.list_writes(limit=1)).items[0].request_id == answer.headers["x-request-id"]


OWN_TRANSACTION = {
    "/v1/datasets/{name}/{side}/changes",
    "/v1/datasets/{name}/versions/{number}",
    "/v1/models/{model}",
    "/v1/shelves",
    "/v1/shelves/{shelf}/rollback",
    "/v1/keys/{name}/rotate",
    "/v1/keys/{name}/revoke",
    "/v1/session",
}


def test_no_route_that_writes_is_out_of_the_books():
    every = [route for module in ROUTERS for route in module.router.routes]
    routes = {route.path: route for route in every if isinstance(route, APIRoute) and route.methods != {"GET"}}
    assert routes.keys() >= READING | OUT_OF_BOOKS | OWN_TRANSACTION
    for path, route in routes.items():
        if path not in READING | OUT_OF_BOOKS | OWN_TRANSACTION:
            names = {each.name for each in route.dependant.dependencies}
            assert "connection" in names, f"{path} writes without the connection that puts it down"


def test_keys_by_command(demo):
    key = demo.gleaner("key", "create", "by-command", "--scope", "serve", "--days", "30", "--per-minute", "1200")
    assert key.stdout.startswith("glk_")
    again = demo.gleaner("key", "rotate", "by-command", "--grace", "5")
    assert again.stdout.startswith("glk_")
    row = next(line for line in demo.gleaner("key", "list").stdout.splitlines() if "by-command" in line)
    assert "1,200" in row
    assert "the secret before opens until" in row
    wrong = demo.gleaner("key", "create", "by-command-2", "--scope", "serve", "--days", "-1")
    assert wrong.returncode in (1, 2)
    assert "days" in wrong.stderr
    assert demo.gleaner("key", "rotate", "nobody").returncode == 1


def test_wrong_keys_keep_nobody_out_who_has_a_right_one(demo):
    """Somebody else behind the same address sends wrong ones; right ones are looked up before those are counted."""
    right = [make(demo, f"right-{n}", Scope.SERVE) for n in range(2)]

    def guess(n: int) -> int:
        headers = {"Authorization": f"Bearer wrong-{n}"}
        return demo.http.get("/v1/shelves", headers=headers).status_code

    # another guess is allowed with every second that passes: guesses until one is refused, however slow they are
    assert until_refused(guess) == {401, 429}
    assert [opens(demo, secret) for secret in right] == [True, True]
    assert until_refused(lambda n: demo.http.post("/v1/session", json={"key": f"wrong-{n}"}).status_code) <= {401, 429}
    assert demo.http.post("/v1/session", json={"key": right[0]}).status_code == 204


def until_refused(guess: Callable[[int], int]) -> set[int]:
    """Return the statuses of guesses up to the first 429."""
    statuses = set()
    for n in range(10 * key_ring.WRONG_A_MINUTE):
        statuses.add(guess(n))
        if 429 in statuses:
            return statuses
    raise AssertionError("no guess was refused")


def test_an_address_sends_sixty_wrong_keys_a_minute(demo, monkeypatch):
    engine = make_engine(demo.database_url)
    # a bucket is full whenever it was made before
    ring, now = KeyRing(engine), time.monotonic() + 1000.0
    monkeypatch.setattr(key_ring, "time", SimpleNamespace(monotonic=lambda: now))
    for _ in range(60):
        ring.refuse_wrong("one")
    with pytest.raises(TooManyError):
        ring.refuse_wrong("one")
    ring.refuse_wrong("another")
    now += 2.0
    for _ in range(2):
        ring.refuse_wrong("one")
    with pytest.raises(TooManyError):
        ring.refuse_wrong("one")
    engine.dispose()


def test_a_key_that_is_revoked_while_it_is_looked_up_is_not_kept(demo):
    """The look-up sees it before it is revoked; the notice comes before it is kept."""
    secret = make(demo, "revoked-meanwhile", Scope.SERVE)
    engine = make_engine(demo.database_url)
    ring, sent = KeyRing(engine), Credential(secret, is_session=False)
    whole = key_ring.keys.known

    def known_then_revoked(connection, text):
        found = whole(connection, text)
        demo.client.send(calls.revoke_key("revoked-meanwhile"))
        ring.forget()
        return found

    key_ring.keys.known = known_then_revoked
    try:
        assert ring.find(sent).name == "revoked-meanwhile"
    finally:
        key_ring.keys.known = whole
    with pytest.raises(Denied):
        ring.find(sent)
    engine.dispose()


def test_two_callers_may_send_the_same_idempotency_key(demo):
    file = "shelf: {0}\ncandidates: [{{model: first-look.als}}]\nfallback: [{{model: first-look.popular}}]\n"
    published = []
    for name in ("caller-one", "caller-two"):
        headers = {"Authorization": f"Bearer {make(demo, name, Scope.BUILD)}", "Idempotency-Key": "the-same"}
        for _ in range(2):
            answer = demo.http.post("/v1/shelves", json={"file": file.format(name)}, headers=headers)
            assert answer.status_code == 201, answer.text
            published.append(answer.json()["name"])
    assert published == ["caller-one@1", "caller-one@1", "caller-two@1", "caller-two@1"]
