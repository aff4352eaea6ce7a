"""The HTTP interface: contests, models, shelves, lists, jobs, keys, errors."""

from __future__ import annotations

import json
import re
from pathlib import Path

import httpx
import pytest

from gleaner.client import Client, DeniedError, JobFailedError, RefusedError, calls
from gleaner.service.http.access import scopes_of_route
from gleaner.service.http.app import create_app
from gleaner.settings import Settings
from gleaner.wire.common import Problem
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.keys import KeyRequest, Scope
from gleaner.wire.shelves.shelf import RecommendRequest

ROOT = Path(__file__).parents[3]
OPEN_ROUTES = {"/healthz", "/readyz", "/v1/session"}
"""Whoever signs in brings a key that is looked at then."""
CONTEST = """\
contest: small
data: seeds@1
prepare: {kinds: {request: 1}, min_user: 2}
rank: {at: [5], metrics: [recall], decide_by: recall@5}
contenders: [item_knn]
"""


def test_every_route_asks_for_the_scope_that_the_docs_tell(tmp_path):
    table = re.findall(r"^\| `([A-Z]+) (/\S+)` \| ([a-z ]*)\|", (ROOT / "docs/api.md").read_text(), re.M)
    documented = {(method, path): scope.strip() for method, path, scope in table}
    app = create_app(Settings(home=tmp_path, database_url="postgresql://nobody@127.0.0.1:1/none"))
    paths = set(app.openapi()["paths"])
    request = {}
    for route in every_route(app.routes):
        path = route.path.replace(":path}", "}")
        if path in paths:
            scopes = scopes_of_route(route.dependant.dependencies)
            words = "" if scopes is None else " or ".join(scopes) or "any key"
            request |= {(method, path): words for method in route.methods}
    assert {path for _, path in request} == paths
    assert {path for (_, path), words in request.items() if not words} == OPEN_ROUTES
    assert request == documented
    app.state.service.close()


def test_everything_that_comes_in_is_bounded(stack):
    """Every text, list and mapping of a request says how long it may be."""
    document = stack.http.get("/openapi.json").json()
    places = []
    for path, methods in document["paths"].items():
        for method, operation in methods.items():
            schemas = [(f"{method} {path} ?{each['name']}", each["schema"]) for each in operation.get("parameters", [])]
            body = operation.get("requestBody", {"content": {}})["content"]
            # other bodies are read by us, within the size of a body
            schemas += [(f"{method} {path} body", body[JSON]["schema"])] if JSON in body else []
            places += schemas
    seen: set[str] = set()
    assert [where for name, schema in places for where in unbounded(schema, name, document, seen)] == []
    assert len(seen) > 20


JSON = "application/json"


def unbounded(schema, where, document, seen):
    """Where a schema takes what could be of any length."""
    if "$ref" in schema:
        name = schema["$ref"].rpartition("/")[2]
        if name not in seen:
            seen.add(name)
            yield from unbounded(document["components"]["schemas"][name], name, document, seen)
        return
    for inner in schema.get("anyOf", []) + schema.get("oneOf", []) + schema.get("prefixItems", []):
        yield from unbounded(inner, where, document, seen)
    kind = schema.get("type")
    if kind == "string" and not schema.keys() & {"maxLength", "pattern", "enum", "const", "format"}:
        yield where
    if kind == "array":
        if "maxItems" not in schema:
            yield f"{where} (list)"
        yield from unbounded(schema.get("items", {}), f"{where}[]", document, seen)
    if kind == "object":
        for name, inner in schema.get("properties", {}).items():
            yield from unbounded(inner, f"{where}.{name}", document, seen)
        more = schema.get("additionalProperties")
        if isinstance(more, dict) or more is True:
            if "maxProperties" not in schema:
                yield f"{where} (mapping)"
            yield from unbounded(more if isinstance(more, dict) else {}, f"{where}{{}}", document, seen)


@pytest.mark.parametrize(
    ("call", "status", "kind"),
    [
        (("GET", "/%00"), 400, "bad-request"),
        (("GET", "/" + "a" * 5000), 414, "too-large"),
        (("GET", "/" + "a/" * 1000), 404, "not-found"),
        (("GET", "/v1/contests/%00"), 400, "bad-request"),
        (("GET", "/v1/contests/%0a"), 400, "bad-request"),
        (("GET", "/v1/contests/" + "a" * 201), 422, "input"),
        (("GET", "/v1/jobs/99999999999999999999"), 422, "input"),
        (("GET", "/v1/datasets/seeds/versions/99999999999"), 422, "input"),
        (("GET", "/v1/datasets/seeds@99999999999"), 404, "not-found"),
        (("GET", "/v1/models/als@2147483648"), 422, "input"),
        (("GET", "/v1/models/als@999999999"), 404, "not-found"),
        (("GET", "/v1/shelves/none/recommendations?user=%00"), 400, "bad-request"),
        (("GET", "/v1/shelves/none/recommendations?user=" + "%61" * 9000), 414, "too-large"),
        (("GET", "/v1/shelves?limitt=3"), 422, "input"),
        (("GET", "/v1/shelves?after=%ff"), 422, "input"),
        (("GET", "/v1/shelves?after=OTk5OTk5OTk5OTk5OTk5OTk5OTk5"), 200, None),
        (("GET", "/v1/jobs?after=OTk5OTk5OTk5OTk5OTk5OTk5OTk5OTk5"), 422, "input"),
        (("POST", "/v1/shelves/none/recommendations", b'{"user": "\\ud800"}'), 422, "input"),
        (("POST", "/v1/shelves/none/recommendations", b'{"\\ud800": 1}'), 422, "input"),
        (("POST", "/v1/shelves/none/recommendations", b'{"context": {"\\ud800": 1}}'), 422, "input"),
        (("POST", "/v1/shelves/none/recommendations", b'{"n": 1e999}'), 422, "input"),
        (("POST", "/v1/shelves/none/recommendations", b"[" * 100_000), 400, "bad-request"),
        (("POST", "/v1/datasets/seeds/forget", b'{"user": "a\\u0000"}'), 422, "input"),
        (("POST", "/v1/keys", b'{"name": "a\\u0000", "scopes": ["serve"]}'), 422, "input"),
        (("POST", "/v1/shelves/check", ('{"file": "' + "[" * 5000 + '"}').encode()), 422, "input"),
    ],
)
def test_what_makes_no_sense_is_refused_and_never_breaks(demo, call, status, kind):
    method, path, *body = call
    answer = demo.http.request(
        method, path, content=body[0] if body else None, headers={"Content-Type": JSON} if body else {}
    )
    assert answer.status_code == status, answer.text
    if kind is not None:
        assert answer.headers["content-type"] == "application/problem+json"
        assert answer.json()["type"] == f"urn:gleaner:problem:{kind}"


def test_an_unknown_parameter_is_refused_with_the_nearest_name(demo):
    response = demo.http.get("/v1/shelves/for-growers/recommendations?usr=g-0417").json()["detail"]
    assert response == "this call has no parameter 'usr'; did you mean 'user'?"
    response = demo.http.get("/v1/shelves/for-growers/recommendations?zzzz=1").json()["detail"]
    assert response == "this call has no parameter 'zzzz'; there are: explain, n, show, user"


def every_route(routes):
    for route in routes:
        if hasattr(route, "dependant"):
            yield route
        inner = getattr(route, "routes", None) or getattr(getattr(route, "original_router", None), "routes", [])
        yield from every_route(inner)


def test_the_description_is_complete(stack):
    document = stack.http.get("/openapi.json").json()
    assert document["openapi"].startswith("3.1")
    for path, methods in document["paths"].items():
        for method, operation in methods.items():
            assert operation.get("description"), f"{method} {path} says nothing of itself"
            assert operation.get("tags"), f"{method} {path} has no tag"
    schemas = document["components"]["schemas"]
    for name in (
        "RecommendationAnswer",
        "RecommendRequest",
        "ContestSpec",
        "ImportRequest",
        "Job",
        "ModelList",
        "ShelfSpec",
    ):
        assert schemas[name].get("example"), f"{name} has no example"


def problem_of(response: httpx.Response) -> Problem:
    assert response.headers["content-type"] == "application/problem+json"
    return Problem.model_validate(response.json())


@pytest.mark.parametrize(
    ("method", "path", "body", "status", "detail"),
    [
        ("GET", "/v1/datasets/nope", None, 404, "there is no dataset 'nope'"),
        ("GET", "/v1/datasets/seeds/versions/99", None, 404, "there is no dataset version 'seeds@99'; its newest is seeds@1"),
        ("GET", "/v1/models/nope", None, 404, "there is no model 'nope'; `gleaner model list` shows what there is"),
        ("GET", "/v1/shelves/nope/recommendations", None, 404, "there is no shelf 'nope'"),
        ("GET", "/v1/contests/nope@3", None, 404, "there is no contest run 'nope@3'"),
        ("GET", "/v1/jobs/999999", None, 404, "there is no job 999999"),
        ("GET", "/v1/jobs/999999/events", None, 404, "there is no job 999999"),
        ("GET", "/v1/lists/none", None, 404, "no list 'none' was served"),
        ("GET", "/v1/nothing", None, 404, "GET /v1/nothing: not found; /openapi.json lists every call"),
        ("DELETE", "/v1/datasets", None, 405, "DELETE /v1/datasets: method not allowed; /openapi.json lists every call"),
        ("GET", "/v1/shelves/for-growers/recommendations?n=0", None, 422, "n: Input should be greater than or equal to 1 (given '0')"),
        ("GET", "/v1/shelves/for-growers/recommendations?n=-5", None, 422, "n: Input should be greater than or equal to 1 (given '-5')"),
        ("GET", "/v1/models/first-look.als/users/g-0417/recommendations?n=1001", None, 422, "n: Input should be less than or equal to 1000 (given '1001')"),
        ("POST", "/v1/shelves/for-growers/recommendations", {"usr": "x"}, 422, "usr: there is no field 'usr' here; did you mean 'user'?"),
        ("GET", "/v1/jobs?after=xx", None, 422, "cursor 'xx' is not one this service gave"),
        ("GET", "/v1/models/first-look.als@x", None, 422, "'first-look.als@x' does not name a model; write a name, or a name and a number as in first-look.als@1"),
    ],
)  # fmt: skip
def test_errors_are_problem_documents(demo, method, path, body, status, detail):
    response = demo.http.request(method, path, json=body)
    problem = problem_of(response)
    assert (response.status_code, problem.status, problem.detail) == (status, status, detail)
    assert problem.request_id == response.headers["x-request-id"]


BAD_CONTEST = """\
contest: Small Contest
data: sedes
prepare: {kinds: {buy: 1}, min_user: 0}
split: {by: time, test: 2}
rank:
  at: [5]
  metrics: [ndcg, magic]
  decide_by: ndcg@10
contenders:
  - als: {rank: 8}
  - als: {rank: 16}
"""


def test_every_mistake_of_a_contest_file_is_told_with_its_line(demo):
    response = demo.http.post("/v1/contests", json={"file": BAD_CONTEST, "name": "bad.yaml"})
    actual = {(error.line, error.field) for error in problem_of(response).errors}
    assert {(1, "contest"), (3, "prepare.min_user"), (4, "split.test"), (8, "rank.decide_by")} <= actual
    mended = (
        BAD_CONTEST.replace("Small Contest", "small")
        .replace("min_user: 0", "min_user: 1")
        .replace("test: 2", "test: 0.2")
    )
    mended = mended.replace("ndcg@10", "ndcg@5").replace("- als: {rank: 16}", "- item_knn: {neighbors: 3}")
    response = demo.http.post("/v1/contests", json={"file": mended, "name": "bad.yaml"})
    actual = [(error.line, error.field) for error in problem_of(response).errors]
    assert actual == [(2, "data"), (7, "rank.metrics.1"), (11, "contenders.1.item_knn.neighbors")]
    assert "item_knn has no parameter 'neighbors'; did you mean 'neighbours'?" in response.json()["detail"]


@pytest.mark.parametrize(
    ("file", "detail"),
    [
        ("contest: [", "this is not YAML"),
        ("just words", "does not hold a mapping of fields"),
        ("a: &x [1]\nb: *x\n", "uses YAML aliases"),
        ("contest: small\ndata: seeds@1\ncontenders: [{als: {rank: 4}}, als]\n", "two contenders are called 'als'"),
        ("contest: small\ndata: seeds@1\ncontenders: [{als: {}, popular: {}}]\n", "a contender names one model family"),
    ],
)
def test_files_that_are_no_contest_are_refused(demo, file, detail):
    response = demo.http.post("/v1/contests", json={"file": file})
    assert response.status_code == 422
    assert detail in problem_of(response).detail


def test_a_contest_always_carries_popularity(demo):
    run = demo.run_contest(CONTEST)
    assert {standing.family for standing in run.standings} == {"popular", "item_knn"}
    assert run.winner in ("popular", "item_knn")
    gap = next(s.against_popular for s in run.standings if s.family == "item_knn")
    assert gap.low <= gap.difference <= gap.high
    assert "hash of the item id" in run.definitions["ties"]


def test_the_same_contest_gives_the_same_figures(demo):
    first, second = demo.run_contest(CONTEST), demo.run_contest(CONTEST)
    assert first.number + 1 == second.number
    assert [s.figures for s in first.standings] == [s.figures for s in second.standings]


def test_a_contest_that_cannot_be_run_fails_with_the_reason(demo):
    file = CONTEST.replace("min_user: 2", "min_user: 5000").replace("small", "hopeless")
    with pytest.raises(JobFailedError, match="pruning leaves nothing"):
        demo.run_contest(file)
    assert demo.client.send(calls.run("hopeless")).standings == []


def test_the_leaderboard_is_the_demo_truth_in_order(demo):
    run = demo.client.send(calls.run("first-look"))
    figures = {standing.family: standing.figure("ndcg@10").mean for standing in run.standings}
    assert figures["als"] > figures["item_knn"] > 2 * figures["popular"]
    # beyond what the simulator's own truth reaches on this data there is nothing to find: see tests/demo
    assert figures["als"] < 0.1697


def test_job_progress_streams_until_the_end(demo):
    run = demo.queue_contest(CONTEST)
    seen = list(demo.client.follow(run.job))
    assert seen[-1].state == "done"
    progress = [job.progress for job in seen]
    assert progress == sorted(progress)
    with demo.http.stream("GET", f"/v1/jobs/{run.job}/events") as response:
        assert response.headers["content-type"].startswith("text/event-stream")
        lines = [line for line in response.iter_lines() if line]
    assert lines[0] == "event: job"
    assert json.loads(lines[1].removeprefix("data:"))["state"] == "done"


def test_a_repeated_write_does_nothing_again(demo):
    headers = {"Idempotency-Key": "publish-once"}
    file = {"file": "shelf: once\ncandidates: [{model: first-look.als}]\nfallback: [{model: first-look.popular}]\n"}
    first, second = (demo.http.post("/v1/shelves", json=file, headers=headers) for _ in range(2))
    assert (first.status_code, second.status_code) == (201, 201)
    assert first.json() == second.json()
    assert second.headers["idempotency-replayed"] == "true"
    other = demo.http.post("/v1/shelves", json={"file": file["file"] + "title: x\n"}, headers=headers)
    assert (other.status_code, problem_of(other).type) == (409, "urn:gleaner:problem:conflict")


def test_lists_are_paged_by_cursor(demo):
    whole = [job["id"] for job in demo.http.get("/v1/jobs", params={"limit": 500}).json()["items"]]
    paged, after = [], None
    while True:
        page = demo.http.get("/v1/jobs", params={"limit": 2} | ({"after": after} if after else {})).json()
        paged += [job["id"] for job in page["items"]]
        after = page["next"]
        if after is None:
            break
    assert paged == whole
    assert whole == sorted(whole, reverse=True)


def test_keys_open_what_their_scope_allows(demo):
    key = demo.client.send(calls.create_key(KeyRequest(name="reader", scopes=[Scope.SERVE])))
    with Client(demo.url, key.secret) as reader:
        assert reader.send(calls.recommend("for-growers", n=1)).list
        with pytest.raises(DeniedError, match="needs a key with the scope build; yours has: serve"):
            reader.send(calls.list_models())
        demo.client.send(calls.revoke_key("reader"))
        with pytest.raises(DeniedError, match="unknown or was revoked"):
            reader.send(calls.recommend("for-growers", n=1))


@pytest.mark.parametrize(
    ("headers", "status"),
    [
        ({"Host": "evil.example"}, 401),
        ({"Origin": "http://evil.example"}, 403),
        ({"Authorization": "Bearer glk_wrong"}, 401),
        ({}, 422),
    ],
)
def test_without_a_key_only_this_machine_may_write(stack, headers, status):
    response = stack.http.post("/v1/contests", json={"file": "x"}, headers=headers)
    assert response.status_code == status


def test_large_bodies_are_refused(stack):
    response = stack.http.post("/v1/contests", content=b"x" * (5 << 20), headers={"Content-Type": "application/json"})
    assert (response.status_code, problem_of(response).type) == (413, "urn:gleaner:problem:too-large")

    def endless():
        for _ in range(6):
            yield b"x" * (1 << 20)

    response = stack.http.post("/v1/contests", content=endless(), headers={"Content-Type": "application/json"})
    assert response.status_code == 413


def test_health_and_figures(demo):
    assert demo.http.get("/healthz").json()["service"] == "gleaner"
    assert demo.http.get("/readyz").status_code == 200
    demo.client.send(calls.recommend("for-growers", n=1))
    response = demo.http.get("/metrics")
    assert response.headers["content-type"].startswith("application/openmetrics-text")
    assert 'gleaner_lists_total{fallback="first-look.popular@1",shelf="for-growers"}' in response.text
    assert response.text.endswith("# EOF\n")


def test_trace_context_is_passed_on(demo):
    trace = "00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01"
    response = demo.http.post("/v1/contests", json={"file": CONTEST}, headers={"traceparent": trace})
    assert response.headers["traceparent"] == trace
    assert demo.sql("SELECT traceparent FROM jobs WHERE id = %s", response.json()["job"]) == [(trace,)]
    demo.client.wait(response.json()["job"])


def test_odd_user_ids_reach_the_model(stack):
    odd = ["a/b", "a b", "\U0001f331", "100%", "x?y#z", "a//b/"]
    rows = "".join(f'"{user}",i{n % 5},2026-01-{n + 1:02d}\n' for n, user in enumerate(odd * 4))
    from gleaner.wire.imports import Roles

    stack.add("odd-users", "user,item,time\n" + rows, Roles(user="user", item="item", time="time"))
    stack.run_contest("contest: odd\ndata: odd-users\nrank: {at: [1], metrics: [hit], decide_by: hit@1}\n"
                      "split: {test: 0.3, validation: 0}\ncontenders: [popular, item_knn]\n")  # fmt: skip
    for user in odd:
        assert stack.client.send(calls.model_recommend("odd.item_knn", user, 2, include_known=True)).user == user
        assert stack.client.send(calls.history("odd-users", 1, user)).total == 4


def test_requests_are_checked_before_they_are_built():
    with pytest.raises(ValueError, match="greater than or equal to 1"):
        RecommendRequest(n=0)


def test_a_refusal_carries_every_field(demo):
    with pytest.raises(RefusedError) as caught:
        demo.client.send(calls.run_contest(FileRequest(file=BAD_CONTEST)))
    assert len(caught.value.problem.errors) >= 4
