"""A list of hostile conditions, URLs, paths and bodies, each with what must come of it: refused, and quickly enough
that nobody else waits."""

from __future__ import annotations

import itertools
import time
from base64 import urlsafe_b64encode
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

import httpx

from attack.outcome import Outcome
from attack.target import Target

LONGEST_S = 1.0
"""Of one answer, on a machine that does other things beside: working a condition out is stopped after 0.05 s."""

LIST = "/v1/shelves/for-growers/recommendations"
SHOP = "https://good.example/data"


PAGED = (
    "/v1/jobs", "/v1/models", "/v1/datasets", "/v1/contests", "/v1/shelves", "/v1/events?data=seeds", "/v1/audit", "/v1/lists",
    "/v1/shelves/for-growers/refreshes",
)  # fmt: skip
CURSORS = (
    b"0", b"-1", b"1.5", b"9" * 19, b"9" * 5000, b"1e9", b"0-0", b"99999999999-1", b"\xff\xfe", b"a\0b", b"", b"' OR 1=1", b"NaN",
    "\u0661".encode(), b"seeds", b"\xed\xa0\x80",
)  # fmt: skip
"""Keys of cursors that were tampered with."""


@dataclass(frozen=True)
class Call:
    """One hostile call. statuses: those it may be answered with."""

    method: str
    path: str
    scope: str | None = "serve"
    json: Any = None
    content: bytes | None = None
    headers: dict[str, str] = field(default_factory=dict)
    statuses: tuple[int, ...] = (400, 401, 403, 404, 405, 413, 414, 422)


def conditions() -> Iterator[str]:
    """Conditions that take long, nest deep, or ask for what nobody may have."""
    yield "stock IN (" + ",".join("1" for _ in range(1990)) + ")"
    yield "name IN (" + ",".join(f"'{n}'" for n in range(700)) + ")"
    for part in (
        "surplus",
        "stock > 1",
        "'a' IN traits",
        "name LIKE '%a%b%c%d%'",
        "item IN history()",
        "credits IS NULL",
    ):
        for word in (" OR ", " AND "):
            yield word.join([part] * (3990 // (len(part) + 5)))
    yield "NOT " * 990 + "surplus"
    yield "(" * 1900 + "surplus" + ")" * 1900
    yield "name LIKE '" + "_%" * 900 + "'"
    yield "name LIKE '%" + "a" * 3900 + "%'"
    yield " OR ".join(f"name LIKE '%{n}%_%_%q'" for n in range(70))
    yield "+".join(["stock"] * 600) + " > 1"
    yield "stock > " + "9" * 3900
    yield "added_on > now() - INTERVAL '99999' WEEK"
    yield "added_on > DATE '9999-12-31' + INTERVAL '99999' WEEK"
    yield "pg_sleep(10)"
    yield "stock > 0; DROP TABLE items"
    yield "stock > (SELECT 1)"
    yield ":user.zone = 'Z1'"
    yield ":user.experience_years > 3"
    yield "item IN history('request')"
    yield "\x00"
    yield "stock > 0 --" + "\u202e" * 500


def calls() -> Iterator[Call]:
    """All of them."""
    for where in conditions():
        yield Call("POST", LIST, json={"user": "g-0417", "where": where}, statuses=(200, 422))
        yield Call("GET", "/v1/models/first-look.als@1/users/g-0417/recommendations", "build", statuses=(200, 400, 414, 422),
                   json={"where": where})  # fmt: skip
    for path in ("/%00", "/" + "a" * 5000, "/v1/contests/%00", "/v1/jobs/99999999999999999999", "/v1/jobs/-1",
                 "/v1/../v1/keys", "/v1//keys", "/assets/..%2f..%2fetc%2fpasswd", "/v1/models/%ff", "/v1/jobs/1/events?x=1",
                 "/v1/shelves/%E2%80%AE", f"{LIST}?user=%00", f"{LIST}?user={'%F0%9F%8C%B1' * 2000}", f"{LIST}?n=1e9",
                 f"{LIST}?n=-1", f"{LIST}?usr=a", f"{LIST}?user=a&user=b&n=x", "/v1/datasets/seeds@0/versions/0",
                 "/v1/splits/9223372036854775808"):  # fmt: skip
        yield Call("GET", path, "build", statuses=(200, 400, 403, 404, 414, 422))
    for body in (b"[" * 200_000, b'{"a":' * 100_000, b'{"user": "\\ud800"}', b'{"n": NaN}', b'{"n": 1e999}', b"\xff\xfe",
                 b'{"recent": ["a"], "values": {"a": Infinity}}', b"", b"null", b"{" + b'"user": "a",' * 100_000 + b'"n": "x"}',
                 b'{"context": {"a": [[[[[1]]]]]}}', b'{"user": "' + b"a" * 3_900_000 + b'"}'):  # fmt: skip
        yield Call("POST", LIST, content=body, headers={"Content-Type": "application/json"})
    for url in (f"{SHOP}.evil/", "https://good.example@evil.example/", "file:///etc/passwd", "http://169.254.169.254/latest",
                "postgresql://a@b/c?host=evil.example", "simplecache::http://127.0.0.1/", "http://127.0.0.1:22/",
                "http://[::1]/", "http://0x7f000001/", "gopher://127.0.0.1/", "http://127.0.0.1\\@good.example/"):  # fmt: skip
        source = {"url": url, "file": "x.csv"}
        yield Call("POST", "/v1/proposals", "build", json={"interactions": source})
        roles = {"user": "user", "item": "item"}
        yield Call("POST", "/v1/datasets/attacked/versions", "build", json={"interactions": source, "roles": roles})
        request = {"what": "top-items", "model": "first-look.als@1", "to": url}
        yield Call("POST", "/v1/exports", "build", json=request)
    for text in ("[" * 5000, "a: " * 5000, "&a [*a, *a]", "? " * 3000, "!!python/object:os.system {}", "- " * 30_000,
                 "contest: x\n" * 6000, "\t" * 1000, "{" * 3000 + "}" * 3000):  # fmt: skip
        for what in ("contests", "shelves"):
            yield Call("POST", f"/v1/{what}/check", "build", json={"file": text}, statuses=(200, 422))
    for sql in ("SELECT repeat('x', 300000000)", "SELECT * FROM range(100000000)", "SELECT * FROM read_csv('/etc/passwd')",
                "COPY items TO '/tmp/x'", "ATTACH '/tmp/x'", "INSTALL httpfs", "SELECT getenv('GLEANER_DATABASE_URL')",
                "SELECT list(range(10000000))", "SET memory_limit='99GB'", "PRAGMA version", "SELECT 1; SELECT 2"):  # fmt: skip
        yield Call("POST", "/v1/datasets/seeds/versions/1/query", "build", json={"sql": sql}, statuses=(200, 422))
    for path in PAGED:
        for key in CURSORS:
            cursor = urlsafe_b64encode(key).decode().rstrip("=")
            yield Call("GET", f"{path}{'&' if '?' in path else '?'}after={cursor}", "admin", statuses=(200, 422))
        for cursor in ("%%%", "a", "=", "A" * 1999, "A" * 2001, "..", "%00", "\u2618"):
            yield Call("GET", f"{path}{'&' if '?' in path else '?'}after={cursor}", "admin", statuses=(200, 400, 422))
    version = "/v1/datasets/seeds/versions/1"
    for scope in ("serve", "events", "metrics"):
        for path in (f"{version}/history?user=g-0417", f"{version}/users", f"{version}/items/search", "/v1/shelves/for-growers",
                     "/v1/keys", "/v1/audit", "/v1/jobs", "/v1/models", "/v1/events?data=seeds"):  # fmt: skip
            yield Call("GET", path, scope, statuses=(403,))
    for headers in ({"X-Forwarded-For": "127.0.0.1"}, {"Forwarded": "for=127.0.0.1"}, {"Host": "localhost"}, {}):
        yield Call("GET", "/v1/jobs", None, headers=headers, statuses=(401,))
        yield Call("GET", LIST, None, headers=headers, statuses=(401,))


def attack(target: Target, seconds: float, seed: int) -> Outcome:
    """Make every call once, and again while there is time."""
    outcome, end = Outcome("hostile conditions, URLs, paths and bodies"), time.monotonic() + seconds
    slowest, which = 0.0, ""
    with httpx.Client(base_url=target.url, timeout=60) as http:
        for turn in itertools.count():
            if turn and time.monotonic() > end:
                break
            for call in calls():
                took = _make(http, target, call, outcome)
                if took > slowest:
                    slowest, which = took, f"{call.method} {call.path[:60]}"
    outcome.notes.append(f"{turn} rounds of {sum(1 for _ in calls())}; slowest {slowest * 1000:,.0f} ms, {which}")
    return outcome


def _make(http: httpx.Client, target: Target, call: Call, outcome: Outcome) -> float:
    """Seconds until the answer."""
    params = call.json if call.method == "GET" else None
    begun = time.perf_counter()
    label = f"{call.method} {call.path[:80]} as {call.scope}"
    try:
        answer = http.request(
            call.method, call.path, params=params, json=None if call.method == "GET" else call.json, content=call.content,
            headers=target.headers(call.scope) | call.headers,
        )  # fmt: skip
    except (httpx.InvalidURL, UnicodeError):
        return 0.0
    except httpx.HTTPError as error:
        outcome.report_progress(f"{label} {type(error).__name__}", f"{label}: {type(error).__name__}: {error}")
        return time.perf_counter() - begun
    took = time.perf_counter() - begun
    if answer.status_code not in call.statuses:
        request = str(call.json or call.content)[:120]
        outcome.report_progress(
            f"{label} {answer.status_code}", f"{label} {request}: {answer.status_code} {answer.text[:300]}"
        )
    elif took > LONGEST_S and "recommendations" in call.path:
        outcome.report_progress(f"{label} slow", f"{label} {str(call.json)[:120]}: {took:.2f} s")
    else:
        outcome.count(refused=answer.status_code >= 400)
    return took
